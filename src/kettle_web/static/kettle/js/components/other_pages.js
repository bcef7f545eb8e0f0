import { isSaving, refresh, revision, say } from "../lib/page.js";

const LATER_MS = 300;

/**
 * Shows what another page changed, as soon as the live connection tells of it, and says what.
 * @param {HTMLElement} live tells `live:changed`
 */
export function mount(live) {
  const stop = new AbortController();
  let timer = 0;

  const look = async (/** @type {{revision: number, words: string}} */ told) => {
    window.clearTimeout(timer);
    // The answer to what this page saves itself may bring it along.
    if (isSaving()) timer = window.setTimeout(look, LATER_MS, told);
    else if (told.revision > revision() && (await refresh(true)))
      say(told.words ? `Changed on another page: ${told.words}` : "Changed on another page", "");
  };

  live.addEventListener(
    "live:changed",
    (event) => look(/** @type {CustomEvent} */ (event).detail),
    {
      signal: stop.signal,
    },
  );
  return {
    destroy() {
      stop.abort();
      window.clearTimeout(timer);
    },
  };
}
