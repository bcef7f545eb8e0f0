import { dataOf, hold, save, saveOnLeaving } from "../lib/page.js";

const SETTLE_MS = 250;

/**
 * Sends every form[data-save] in place as soon as a field changes or a button of it is pressed;
 * with data-save="submit" a button only. What is still to be sent goes when the page is left.
 * Buttons marked by data-without-script are for pages without JavaScript.
 */
export function mount() {
  const stop = new AbortController();
  const on = { signal: stop.signal };
  /** @type {Map<HTMLFormElement, number>} */
  const waiting = new Map();

  const settle = (/** @type {HTMLFormElement} */ form) => {
    window.clearTimeout(waiting.get(form));
    waiting.delete(form);
    hold(form, false);
  };

  const hide = () => {
    for (const button of document.querySelectorAll("[data-without-script]")) {
      /** @type {HTMLElement} */ (button).hidden = true;
    }
  };

  document.addEventListener(
    "change",
    (event) => {
      const form = /** @type {HTMLInputElement} */ (event.target).form;
      if (!form?.matches("[data-save]:not([data-save=submit])")) return;
      settle(form);
      const send = () => {
        settle(form);
        save(form.action, dataOf(form));
      };
      hold(form, true);
      waiting.set(form, window.setTimeout(send, SETTLE_MS));
    },
    on,
  );
  document.addEventListener(
    "submit",
    (event) => {
      const form = /** @type {HTMLFormElement} */ (event.target);
      if (!form.matches("[data-save]")) return;
      event.preventDefault();
      settle(form);
      save(form.action, dataOf(form, event.submitter));
    },
    on,
  );
  window.addEventListener(
    "pagehide",
    () => {
      for (const form of [...waiting.keys()]) {
        settle(form);
        saveOnLeaving(form.action, dataOf(form));
      }
    },
    on,
  );
  document.addEventListener("parts:swapped", hide, on);
  hide();
  return { destroy: () => stop.abort() };
}
