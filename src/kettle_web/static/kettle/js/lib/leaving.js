/** What happens when a page is left, and when it comes back from the browser's memory. */

/**
 * A link that is followed while something is saved waits for it: the next page shows it.
 * @param {import("./queue.js").Queue} queue
 */
export function waitForSaving(queue) {
  window.addEventListener("click", (event) => {
    // On the window, so that who does something else with it on the page has done so.
    const link = /** @type {Element} */ (event.target).closest?.("a[href]");
    if (!(link instanceof HTMLAnchorElement) || !queue.count || event.defaultPrevented) return;
    if (event.button || event.ctrlKey || event.metaKey || event.shiftKey || event.altKey) return;
    if (link.origin !== location.origin || link.target || link.hasAttribute("download")) return;
    event.preventDefault();
    queue.idle().finally(() => location.assign(link.href));
  });
}

/**
 * A page that comes back shows what is, not what was.
 * @param {(isFromMemory: boolean) => void} shown
 */
export function whenItComesBack(shown) {
  window.addEventListener("pageshow", (event) => {
    const [entry] = /** @type {PerformanceNavigationTiming[]} */ (
      performance.getEntriesByType("navigation")
    );
    if (!event.persisted && entry?.type !== "back_forward") return;
    for (const form of document.forms) form.reset();
    shown(event.persisted);
  });
}
