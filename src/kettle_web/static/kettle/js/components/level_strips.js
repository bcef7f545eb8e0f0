import { dbfs } from "../lib/format.js";

/**
 * Moves the level strips and their readouts.
 * @typedef {{peak_dbfs: number, held_dbfs: number, peak_at: number, held_at: number, clipped: number}} Level
 * @param {HTMLElement} live the element that tells `live:levels`
 */
export function mount(live) {
  const stop = new AbortController();
  const one = (/** @type {string} */ selector) =>
    /** @type {HTMLElement | null} */ (document.querySelector(selector));
  live.addEventListener(
    "live:levels",
    (event) => {
      const levels = /** @type {Record<string, Level>} */ (
        /** @type {CustomEvent} */ (event).detail
      );
      for (const [input, level] of Object.entries(levels)) {
        const name = CSS.escape(input);
        for (const found of document.querySelectorAll(`[data-strip="${name}"]`)) {
          const strip = /** @type {HTMLElement} */ (found);
          strip.style.setProperty("--level", String(level.peak_at));
          strip.style.setProperty("--held", String(level.held_at));
          const count = strip.querySelector("[data-strip-clips]");
          if (count) count.textContent = level.clipped ? String(level.clipped) : "";
        }
        const peak = one(`[data-peak="${name}"]`);
        if (peak) peak.textContent = dbfs(level.held_dbfs);
        const clips = one(`[data-clips="${name}"]`);
        if (!clips) continue;
        const words = level.clipped ? `${level.clipped} clipped` : "";
        clips.textContent = words || (clips.dataset.none ?? "");
        clips.dataset.state = words && "fault";
      }
    },
    { signal: stop.signal },
  );
  return { destroy: () => stop.abort() };
}
