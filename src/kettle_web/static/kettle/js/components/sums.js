import { go } from "../lib/page.js";

const SETTLE_MS = 200;

/**
 * Works out anew what form[data-sums] asks for while it is typed, and shows what a[data-choose]
 * chooses; the address says what it is.
 */
export function mount() {
  const stop = new AbortController();
  let timer = 0;

  const work = (/** @type {HTMLFormElement} */ form) => {
    const query = new URLSearchParams(location.search);
    for (const [name, value] of new FormData(form))
      if (typeof value === "string") query.set(name, value);
    go(`?${query}`);
  };

  document.addEventListener(
    "input",
    (event) => {
      const form = /** @type {HTMLInputElement} */ (event.target).form;
      if (!form?.matches("[data-sums]")) return;
      window.clearTimeout(timer);
      timer = window.setTimeout(() => work(form), SETTLE_MS);
    },
    { signal: stop.signal },
  );
  document.addEventListener(
    "submit",
    (event) => {
      const form = /** @type {HTMLFormElement} */ (event.target);
      if (!form.matches("[data-sums]")) return;
      event.preventDefault();
      work(form);
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
      const query = new URLSearchParams(location.search);
      for (const [name, value] of new URL(link.href).searchParams) query.set(name, value);
      go(`?${query}`);
    },
    { signal: stop.signal },
  );
  const hide = () => {
    /** @type {NodeListOf<HTMLElement>} */
    const buttons = document.querySelectorAll("[data-sums] [data-without-script]");
    for (const button of buttons) button.hidden = true;
  };
  document.addEventListener("parts:swapped", hide, { signal: stop.signal });
  hide();
  return {
    destroy() {
      stop.abort();
      window.clearTimeout(timer);
    },
  };
}
