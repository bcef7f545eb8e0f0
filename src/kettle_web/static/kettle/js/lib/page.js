/** The one page that a script runs in: made of its parts when it is first asked something. */
import { exchange } from "./exchange.js";
import { waitForSaving, whenItComesBack } from "./leaving.js";
import { queue } from "./queue.js";
import { typedFields } from "./typed_fields.js";

/** @typedef {{work: import("./queue.js").Queue, fields: ReturnType<typeof typedFields>, asks: ReturnType<typeof exchange>}} Page */

/** @type {WeakMap<Document, Page>} */
const made = new WeakMap();

function page() {
  const known = made.get(document);
  if (known) return known;
  const [work, fields] = [queue(), typedFields(document)];
  const fresh = { work, fields, asks: exchange(document, work, fields) };
  made.set(document, fresh);
  waitForSaving(work);
  whenItComesBack((isFromMemory) => {
    if (isFromMemory) fresh.asks.refresh();
  });
  return fresh;
}

/** @param {HTMLFormElement} form @param {boolean} on */
export const hold = (form, on) => page().fields.hold(form, on);

/** What the page shows. */
export const revision = () => page().asks.revision();

/** Whether something is on its way to be saved. */
export const isSaving = () => page().work.count > 0;

/** @param {string} words @param {string} state */
export const say = (words, state = "") => page().asks.say(words, state);

/** What a form says, as it is sent. @param {HTMLFormElement} form @param {HTMLElement | null} button */
export const dataOf = (form, button = null) => page().fields.dataOf(form, button);

/** What the user did to fields. */
export const fields = () => page().fields;

/** @param {string} address @param {FormData} data */
export const save = (address, data) => page().asks.save(address, data);

/** @param {string} address @param {FormData} data */
export const saveOnLeaving = (address, data) => page().asks.saveOnLeaving(address, data);

/** @param {string} address */
export const go = (address) => page().asks.go(address);

/** @param {boolean} background */
export const refresh = (background = false) => page().asks.refresh(background);
