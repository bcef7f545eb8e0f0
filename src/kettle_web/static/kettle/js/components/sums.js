import { go } from "../lib/page.js";

const SETTLE_MS = 200;

/**
 * Works out anew what form[data-sums] asks for while it is typed, and shows what a[data-choose]
 * chooses; the address says what it is.
 */
export function mount() {
  const stop = new AbortController();
  let timer = 0;

  /** What is asked for besides stays. @param {Iterable<[string, any]>} values */
  const ask = (values) => {
    const query = new URLSearchParams(location.search);
    for (const [name, value] of values) query.set(name, String(value));
    go(`?${query}`);
  };

  document.addEventListener(
    "input",
    (event) => {
      const form = /** @type {HTMLInputElement} */ (event.target).form;
      if (!form?.matches("[data-sums]")) return;
      window.clearTimeout(timer);
      timer = window.setTimeout(() => ask(new FormData(form)), SETTLE_MS);
    },
    { signal: stop.signal },
  );
  document.addEventListener(
    "submit",
    (event) => {
      const form = /** @type {HTMLFormElement} */ (event.target);
      if (!form.matches("[data-sums]")) return;
      event.preventDefault();
      ask(new FormData(form));
    },
    { signal: stop.signal },
  );
  document.addEventListener(
    "click",
    (event) => {
      /** @type {HTMLAnchorElement | null} */
      const link = /** @type {HTMLElement} */ (event.target).closest("a[data-choose]");
      if (!link || event.ctrlKey || event.metaKey || event.shiftKey) return;
      event.preventDefault();
      ask(new URL(link.href).searchParams);
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
