import { inOwnZone } from "../lib/format.js";

/** Puts every time of the page into the user's own zone. */
export function mount() {
  const stop = new AbortController();
  const show = () => {
    for (const place of document.querySelectorAll("time[datetime]")) {
      const words = inOwnZone(/** @type {HTMLTimeElement} */ (place).dateTime);
      if (words) place.textContent = words;
    }
  };
  document.addEventListener("parts:swapped", show, { signal: stop.signal });
  show();
  return { destroy: () => stop.abort() };
}
