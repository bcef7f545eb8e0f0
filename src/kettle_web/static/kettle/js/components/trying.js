import { dataOf } from "../lib/page.js";

const SETTLE_MS = 150;

/**
 * Shows what follows from what is being typed into a form[data-try]: its address answers with the
 * page as it would be, of which the places marked by data-tried are taken over. Nothing is kept.
 */
export function mount() {
  const stop = new AbortController();
  let timer = 0;
  let asked = new AbortController();

  const look = async (/** @type {HTMLFormElement} */ form) => {
    asked.abort();
    asked = new AbortController();
    try {
      const answer = await fetch(form.dataset.try ?? "", {
        method: "POST",
        body: dataOf(form),
        signal: asked.signal,
      });
      if (!answer.ok) return;
      const fresh = new DOMParser().parseFromString(await answer.text(), "text/html");
      for (const place of document.querySelectorAll("[data-tried]")) {
        const name = /** @type {HTMLElement} */ (place).dataset.tried ?? "";
        const next = fresh.querySelector(`[data-tried="${CSS.escape(name)}"]`);
        if (next) place.replaceChildren(...document.importNode(next, true).childNodes);
      }
    } catch {
      // Something newer was typed, or the page is being left.
    }
  };

  document.addEventListener(
    "input",
    (event) => {
      const form = /** @type {HTMLInputElement} */ (event.target).form;
      if (!form?.matches("[data-try]")) return;
      window.clearTimeout(timer);
      timer = window.setTimeout(() => look(form), SETTLE_MS);
    },
    { signal: stop.signal },
  );
  document.addEventListener(
    "change",
    () => {
      window.clearTimeout(timer);
      asked.abort();
    },
    { signal: stop.signal },
  );
  return {
    destroy() {
      stop.abort();
      asked.abort();
      window.clearTimeout(timer);
    },
  };
}
