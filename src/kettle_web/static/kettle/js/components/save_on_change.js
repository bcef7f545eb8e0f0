/**
 * Submits a form when a field changes; its button is for pages without JavaScript.
 * @param {HTMLFormElement} form
 */
export function mount(form) {
  const stop = new AbortController();
  const button = /** @type {HTMLElement | null} */ (form.querySelector("[data-without-script]"));
  if (button) button.hidden = true;
  form.addEventListener("change", () => form.requestSubmit(), { signal: stop.signal });
  return { destroy: () => stop.abort() };
}
