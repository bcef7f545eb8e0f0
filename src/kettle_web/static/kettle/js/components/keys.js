/** Presses the button or link that carries the key in data-key. */
export function mount() {
  const stop = new AbortController();
  document.addEventListener(
    "keydown",
    (event) => {
      if (event.ctrlKey || event.metaKey || event.altKey || event.repeat) return;
      const target = /** @type {HTMLElement} */ (event.target);
      if (target.matches("input:not([type=hidden]), select, textarea") && event.key !== "Escape") {
        // Letters that are no numbers still reach the keys of the page from a number field.
        if (target.getAttribute("type") !== "number") return;
      }
      const found = /** @type {HTMLElement | null} */ (
        document.querySelector(`[data-key="${CSS.escape(event.key.toLowerCase())}"]`)
      );
      if (!found || found.matches(":disabled") || found.closest("[hidden]")) return;
      event.preventDefault();
      found.click();
    },
    { signal: stop.signal },
  );
  return { destroy: () => stop.abort() };
}
