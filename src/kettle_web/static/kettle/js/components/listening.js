/**
 * Counts the seconds of speech down before the form asks for what was heard.
 * @param {HTMLFormElement} form carries its seconds in the field `seconds`
 */
export function mount(form) {
  const stop = new AbortController();
  const button = /** @type {HTMLButtonElement} */ (form.querySelector("button"));
  const bar = /** @type {HTMLProgressElement} */ (form.querySelector("progress"));
  const words = /** @type {HTMLElement} */ (form.querySelector("[data-listening]"));
  const seconds = Number(
    /** @type {HTMLInputElement} */ (form.elements.namedItem("seconds")).value,
  );
  let timer = 0;

  form.addEventListener(
    "submit",
    (event) => {
      event.preventDefault();
      const began = performance.now();
      button.disabled = true;
      bar.hidden = false;
      const tick = () => {
        const elapsed = (performance.now() - began) / 1000;
        // What lies in a take has been spoken: there are no seconds to wait for.
        bar.value = elapsed < seconds ? elapsed / seconds : 1;
        words.textContent =
          elapsed < seconds ? `Speak on: ${Math.ceil(seconds - elapsed)} s` : "Measuring …";
        if (elapsed < seconds) timer = window.setTimeout(tick, 100);
        else form.submit();
      };
      tick();
    },
    { signal: stop.signal },
  );
  return {
    destroy() {
      stop.abort();
      window.clearTimeout(timer);
    },
  };
}
