const GONE = ["absent", "lost", "failed"];

/**
 * Says at every input how it is, in words, as the engine tells it.
 * @param {HTMLElement} live the element that tells `live:status`
 */
export function mount(live) {
  const stop = new AbortController();

  const say = (
    /** @type {HTMLElement} */ cell,
    /** @type {string} */ words,
    /** @type {string} */ state,
  ) => {
    if (cell.textContent !== words) cell.textContent = words;
    cell.dataset.state = state;
    const row = /** @type {HTMLElement | null} */ (cell.closest("[data-row]"));
    if (row) row.dataset.state = state;
  };

  live.addEventListener(
    "live:status",
    (event) => {
      const status = /** @type {CustomEvent} */ (event).detail;
      for (const found of document.querySelectorAll("[data-input-state]")) {
        const cell = /** @type {HTMLElement} */ (found);
        const input = status.inputs?.[cell.dataset.inputState ?? ""];
        if (cell.dataset.fixed !== undefined) continue;
        if (input) say(cell, input.words, input.state);
        else if (GONE.includes(status.state)) say(cell, "not shown", "fault");
      }
    },
    { signal: stop.signal },
  );
  return { destroy: () => stop.abort() };
}
