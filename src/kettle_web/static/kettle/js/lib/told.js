/** What a page says while a play head moves: written only where it is another text. */

/** @param {string} selector @param {string} words */
export function say(selector, words) {
  for (const place of document.querySelectorAll(selector))
    if (place.textContent !== words) place.textContent = words;
}

/** @param {string} selector @param {string} value */
export function fill(selector, value) {
  const fields = /** @type {NodeListOf<HTMLInputElement>} */ (document.querySelectorAll(selector));
  for (const field of fields) if (field.value !== value) field.value = value;
}
