import { dataOf, fields, hold, save, saveOnLeaving } from "../lib/page.js";
import { SAVES_ITSELF } from "../lib/typed_fields.js";
import { mount as mountDrafts } from "./typed_drafts.js";

const SETTLE_MS = 250;
const AGAIN_MS = 3000;

/**
 * Sends every form[data-save] in place as soon as a field changes or a button of it is pressed;
 * with data-save="submit" a button only. What could not be sent is sent again; what is still to
 * be sent, or being typed, goes when the page is left.
 * Buttons marked by data-without-script are for pages without JavaScript.
 */
export function mount() {
  const stop = new AbortController();
  const on = { signal: stop.signal };
  /** @type {Map<HTMLFormElement, number>} */
  const waiting = new Map();
  let again = 0;

  const settle = (/** @type {HTMLFormElement} */ form) => {
    window.clearTimeout(waiting.get(form));
    waiting.delete(form);
    hold(form, false);
  };

  const send = (/** @type {HTMLFormElement} */ form) => {
    settle(form);
    save(form.action, dataOf(form));
  };

  const hide = () => {
    for (const button of document.querySelectorAll("[data-without-script]")) {
      /** @type {HTMLElement} */ (button).hidden = true;
    }
  };

  /** What a button asked for is not: nobody expects it to be done a while later. */
  const sendAgain = () => {
    const forms = fields()
      .unsent()
      .filter((form) => form.matches(SAVES_ITSELF));
    for (const form of forms) if (!waiting.has(form)) send(form);
  };

  document.addEventListener(
    "change",
    (event) => {
      const form = /** @type {HTMLInputElement} */ (event.target).form;
      if (!form?.matches(SAVES_ITSELF)) return;
      settle(form);
      hold(form, true);
      waiting.set(form, window.setTimeout(send, SETTLE_MS, form));
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
  document.addEventListener(
    "page:unsent",
    () => {
      window.clearTimeout(again);
      again = window.setTimeout(sendAgain, AGAIN_MS);
    },
    on,
  );
  window.addEventListener(
    "pagehide",
    () => {
      const typed = fields().typedNow();
      const unsent = fields()
        .unsent()
        .filter((form) => form.matches(SAVES_ITSELF));
      for (const form of new Set([...waiting.keys(), ...unsent, ...(typed ? [typed] : [])])) {
        settle(form);
        saveOnLeaving(form.action, dataOf(form));
      }
    },
    on,
  );
  document.addEventListener("parts:swapped", hide, on);
  hide();
  // After the others: what is sent in place is known by then not to lead elsewhere.
  const drafts = mountDrafts();
  return {
    destroy() {
      stop.abort();
      window.clearTimeout(again);
      drafts.destroy();
    },
  };
}
