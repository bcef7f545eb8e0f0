import { decibels } from "../lib/format.js";

const EVERY_MS = 2000;
const LOWEST_DB = -5;
const SPAN_DB = 40;
const DRAWN = 400;

/**
 * Asks again and again how far the voice stands over the background, and offers the gain that
 * mends it.
 * @param {HTMLElement} root carries the address in data-balance
 */
export function mount(root) {
  const stop = new AbortController();
  const one = (/** @type {string} */ name) =>
    /** @type {HTMLElement} */ (root.querySelector(`[data-balance-${name}]`));
  const form = /** @type {HTMLFormElement} */ (one("take"));
  let timer = 0;

  const show = (/** @type {any} */ found) => {
    const ratio = found.voice_over_background_db ?? null;
    one("db").textContent = ratio === null ? "–" : decibels(ratio);
    const words = found.error ?? found.verdict;
    if (one("words").textContent !== words) one("words").textContent = words;
    root.dataset.state = found.word ?? "fault";
    const mark = /** @type {SVGElement} */ (root.querySelector("[data-balance-mark]"));
    mark.toggleAttribute("hidden", ratio === null);
    const share = Math.min(1, Math.max(0, ((ratio ?? 0) - LOWEST_DB) / SPAN_DB));
    mark.setAttribute("transform", `translate(${share * DRAWN} 2)`);
    const gain = found.proposed_gain_db ?? 0;
    form.hidden = gain === 0;
    if (form.hidden) return;
    /** @type {HTMLInputElement} */ (form.elements.namedItem("gain_db")).value = String(gain);
    one("gain").textContent = decibels(gain);
  };

  const ask = async () => {
    try {
      const answer = await fetch(root.dataset.balance ?? "", {
        headers: { Accept: "application/json" },
        signal: stop.signal,
      });
      show(await answer.json());
    } catch {
      // The notice at the top says that nobody answers.
    }
    if (!stop.signal.aborted) timer = window.setTimeout(ask, EVERY_MS);
  };
  timer = window.setTimeout(ask, EVERY_MS / 2);
  return {
    destroy() {
      stop.abort();
      window.clearTimeout(timer);
    },
  };
}
