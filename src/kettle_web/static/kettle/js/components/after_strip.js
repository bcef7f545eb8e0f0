import { lufs } from "../lib/format.js";

/**
 * Shows what goes in and what comes out of a sound's chain: asks for the level after the chain
 * and moves the two strips of the chain.
 * @param {HTMLElement} live the element that tells `live:levels` and `live:after`
 */
export function mount(live) {
  const stop = new AbortController();
  const input = live.dataset.after ?? "";

  const move = (/** @type {string} */ name, /** @type {any} */ level) => {
    const strip = /** @type {HTMLElement | null} */ (
      document.querySelector(`[data-strip="${CSS.escape(name)}"]`)
    );
    strip?.style.setProperty("--level", String(level.peak_at));
    strip?.style.setProperty("--held", String(level.held_at));
  };

  live.addEventListener(
    "live:levels",
    (event) => {
      const level = /** @type {CustomEvent} */ (event).detail[input];
      if (level) move(`${input}-in`, level);
    },
    { signal: stop.signal },
  );
  live.addEventListener(
    "live:after",
    (event) => {
      const level = /** @type {CustomEvent} */ (event).detail;
      if (level.input !== input) return;
      move(`${input}-after`, level);
      const words = document.querySelector("[data-after-lufs]");
      if (words) words.textContent = lufs(level.momentary_lufs);
    },
    { signal: stop.signal },
  );
  const look = JSON.stringify({ look: { after: [input] } });
  live.dispatchEvent(new CustomEvent("live:look", { detail: look }));
  return { destroy: () => stop.abort() };
}
