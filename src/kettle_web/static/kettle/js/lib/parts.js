/** Parts of a page, marked by data-part, are exchanged for those of a fresh copy from the server. */

let turn = 0;

/**
 * Begins to ask the server for a fresh copy. An answer that comes after a newer one was taken over,
 * or after something newer was asked for, tells of what the page was: it must not be shown.
 * @param {boolean} background whether it is only looked for what may have changed: who saves or
 *   chooses something meanwhile is newer, and nothing asked for before is older
 * @returns {() => boolean} whether its answer is the newest
 */
export function beginAsking(background = false) {
  if (!background) turn += 1;
  const mine = turn;
  return () => mine === turn;
}

/**
 * Takes over every part of a fresh page. What is marked by data-keep (live pictures and strips)
 * is moved across, so that it neither blinks nor loses its state; focus stays where it was.
 * @param {string} html a whole page
 */
export function swapParts(html) {
  const fresh = new DOMParser().parseFromString(html, "text/html");
  const active = /** @type {HTMLInputElement | null} */ (document.activeElement);
  const focused = active?.id;
  const typed = active?.matches("input[type=text], input[type=number], textarea")
    ? active.value !== active.defaultValue && active.value
    : false;
  for (const part of document.querySelectorAll("[data-part]")) {
    const name = /** @type {HTMLElement} */ (part).dataset.part ?? "";
    const next = fresh.querySelector(`[data-part="${CSS.escape(name)}"]`);
    if (!next) continue;
    const kept = document.importNode(next, true);
    for (const place of kept.querySelectorAll("[data-keep]")) {
      const key = /** @type {HTMLElement} */ (place).dataset.keep ?? "";
      const old = part.querySelector(`[data-keep="${CSS.escape(key)}"]`);
      if (!old) continue;
      Object.assign(
        /** @type {HTMLElement} */ (old).dataset,
        /** @type {HTMLElement} */ (place).dataset,
      );
      place.replaceWith(old);
    }
    part.replaceWith(kept);
  }
  if (focused && document.activeElement?.id !== focused) {
    const field = document.getElementById(focused);
    field?.focus({ preventScroll: true });
    // What is being typed is not saved yet, so the fresh copy does not have it.
    if (typed !== false && field) /** @type {HTMLInputElement} */ (field).value = typed;
  }
  turn += 1;
  document.dispatchEvent(new CustomEvent("parts:swapped"));
}
