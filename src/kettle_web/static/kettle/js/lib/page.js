/**
 * The one place where a page asks the server for itself: saves, chooses another state, looks for
 * what changed. What comes is morphed into the parts marked by data-part; what is being typed,
 * focus, live pictures (data-keep) and open folds stay as they are.
 */
import { Idiomorph } from "../../vendor/idiomorph.esm.js";
import { asking, untouched } from "./asking.js";

const FAILED = "Vast Kettle does not answer, so this was not saved. Change it again in a moment.";
const LARGEST_ON_LEAVING = 60_000;

const revisionOf = (/** @type {Document} */ page) => Number(page.body.dataset.revision ?? 0);
const answers = asking(revisionOf(document));
/** @type {Promise<void>} */
let queue = Promise.resolve();
let saving = 0;
/** What stood in a field when it was last sent. @type {WeakMap<Element, string>} */
const sentValues = new WeakMap();

/** Fields that the user changed and that go when a button is pressed: nothing sets them back before. @type {WeakSet<EventTarget>} */
const edited = new WeakSet();
document.addEventListener("input", (event) => {
  const { form } = /** @type {HTMLInputElement} */ (event.target);
  if (event.target && form && !form.matches("[data-save]:not([data-save=submit])"))
    edited.add(event.target);
});

/** Forms with something that is still to be sent: it would be lost if they were morphed. @type {WeakSet<Element>} */
const held = new WeakSet();

/** @param {HTMLFormElement} form @param {boolean} on */
export function hold(form, on) {
  if (on) held.add(form);
  else held.delete(form);
}

/** What the page shows. */
export const revision = () => answers.revision;

/** Whether something is on its way to be saved. */
export const isSaving = () => saving > 0;

/** @param {string} words @param {string} state */
export function say(words, state = "") {
  for (const place of document.querySelectorAll("[data-saved]")) {
    place.textContent = words;
    /** @type {HTMLElement} */ (place).dataset.state = state;
  }
}

/**
 * What a form says, in the way it is sent: which of its fields nobody touched.
 * @param {HTMLFormElement} form @param {HTMLElement | null} button
 */
export function dataOf(form, button = null) {
  const data = new FormData(form, button?.isConnected ? button : null);
  const fields = [.../** @type {Iterable<any>} */ (form.elements)].map((field) => ({
    name: field.name,
    type: field.type,
    value: field.value,
    defaultValue: field.defaultValue,
    checked: field.checked,
    defaultChecked: field.defaultChecked,
    options: field.options,
    invalid: field.getAttribute("aria-invalid") === "true",
  }));
  const names = untouched(fields);
  if (names.length) data.set("untouched", names.join(" "));
  for (const field of /** @type {Iterable<any>} */ (form.elements)) {
    edited.delete(field);
    if (field.value !== undefined) sentValues.set(field, field.value);
  }
  return data;
}

const headers = () => ({
  "Kettle-In-Place": "1",
  "Kettle-Seen": String(answers.revision),
});

/**
 * Saves something after what is being saved already; the answer is taken over.
 * @param {string} address @param {FormData} data
 */
export function save(address, data) {
  saving += 1;
  say("Saving …");
  queue = queue
    .then(() => send(address, data))
    .finally(() => {
      saving -= 1;
    });
  return queue;
}

/** @param {string} address @param {FormData} data */
async function send(address, data) {
  const before = answers.revision;
  const mayShow = answers.begin();
  try {
    const answer = await fetch(address, { method: "POST", body: data, headers: headers() });
    if (answer.headers.get("Content-Type")?.startsWith("application/json")) {
      const { error } = await answer.json();
      await refresh();
      say(error ? `Not saved: ${error}` : "", error ? "fault" : "");
      return;
    }
    const fresh = pageOf(await answer.text());
    if (saving > 1 && answer.ok) {
      // The next answer has this one in it, and what it is about stays as the user set it.
      follow(answer);
      answers.saved(revisionOf(fresh));
    } else if (mayShow(revisionOf(fresh), answer.ok)) {
      follow(answer);
      takeOver(fresh);
    } else {
      // Something else was chosen meanwhile: the page as it is then, with what was saved.
      await refresh();
    }
    // A page without a document, as the studio's, has no revisions.
    const kept = answers.revision > before || answers.revision === 0;
    if (answer.ok) say(kept ? "Saved" : "", "good");
    else say("Not saved", "fault");
  } catch {
    say(FAILED, "fault");
  }
}

/**
 * Sends what has not been sent yet while the page is left; nobody waits for the answer.
 * @param {string} address @param {FormData} data
 */
export function saveOnLeaving(address, data) {
  const fields = new URLSearchParams();
  for (const [name, value] of data) if (typeof value === "string") fields.append(name, value);
  if (String(fields).length > LARGEST_ON_LEAVING) return;
  fetch(address, { method: "POST", body: fields, headers: headers(), keepalive: true });
}

/**
 * Shows another state of this page, which its address says from now on.
 * @param {string} address
 */
export async function go(address) {
  history.replaceState(null, "", address);
  const mayShow = answers.begin();
  const fresh = pageOf(await (await fetch(address)).text());
  if (mayShow(revisionOf(fresh))) takeOver(fresh);
}

/**
 * Shows the page as it is now.
 * @param {boolean} background whether it is only looked for what may have changed
 * @returns {Promise<boolean>} whether it was taken over
 */
export async function refresh(background = false) {
  const mayShow = answers.begin(background);
  const answer = await fetch(location.href);
  if (!answer.ok) return false;
  const fresh = pageOf(await answer.text());
  if (!mayShow(revisionOf(fresh))) return false;
  takeOver(fresh, background);
  return true;
}

const pageOf = (/** @type {string} */ html) => new DOMParser().parseFromString(html, "text/html");

/** Where the server leads to another state of this page, a reload shows the same. @param {Response} answer */
function follow(answer) {
  const { pathname, search } = new URL(answer.url);
  if (answer.redirected && pathname === location.pathname)
    history.replaceState(null, "", pathname + search);
}

/** @param {Document} fresh @param {boolean} background */
function takeOver(fresh, background = false) {
  for (const part of document.querySelectorAll("[data-part]")) {
    const name = /** @type {HTMLElement} */ (part).dataset.part ?? "";
    const next = fresh.querySelector(`[data-part="${CSS.escape(name)}"]`);
    if (!next) continue;
    Idiomorph.morph(part, document.importNode(next, true), {
      morphStyle: "outerHTML",
      callbacks: { beforeNodeMorphed: mayMorph, beforeAttributeUpdated: mayChange },
    });
  }
  answers.takeOver(revisionOf(fresh), background);
  document.body.dataset.revision = String(answers.revision);
  document.dispatchEvent(new CustomEvent("parts:swapped"));
}

/** Folds and menus stay as the user left them. @param {string} name @param {Element} node */
const mayChange = (name, node) => !(name === "open" && node.matches("details, dialog"));

/** @param {Node} old @param {Node} next */
function mayMorph(old, next) {
  if (!(old instanceof HTMLElement) || !(next instanceof HTMLElement)) return true;
  if (old.dataset.keep !== undefined && old.dataset.keep === next.dataset.keep) {
    Object.assign(old.dataset, next.dataset);
    return false;
  }
  if (held.has(old)) return false;
  if (!old.matches("input, textarea, select")) return true;
  if (!edited.has(old) && !isBeingTyped(old)) return true;
  // What is being typed is not saved yet, so the fresh copy does not have it.
  for (const name of ["aria-invalid", "class", "aria-describedby"]) {
    const value = next.getAttribute(name);
    if (value === null) old.removeAttribute(name);
    else old.setAttribute(name, value);
  }
  return false;
}

/** @param {HTMLElement} field */
function isBeingTyped(field) {
  const { value, defaultValue } = /** @type {HTMLInputElement} */ (field);
  if (
    field !== document.activeElement ||
    !field.matches("input:not([type]), [type=text], [type=number], textarea")
  )
    return false;
  return value !== defaultValue && value !== sentValues.get(field);
}

/** A link that is followed while something is saved waits for it: the next page shows it. */
window.addEventListener("click", (event) => {
  // On the window, so that who does something else with it on the page has done so.
  const link = /** @type {Element} */ (event.target).closest?.("a[href]");
  if (!(link instanceof HTMLAnchorElement) || !saving || event.defaultPrevented) return;
  if (event.button || event.ctrlKey || event.metaKey || event.shiftKey || event.altKey) return;
  if (link.origin !== location.origin || link.target || link.hasAttribute("download")) return;
  event.preventDefault();
  queue.finally(() => location.assign(link.href));
});

/** A page that comes back from the browser's memory shows what is, not what was. */
window.addEventListener("pageshow", (event) => {
  const [entry] = /** @type {PerformanceNavigationTiming[]} */ (
    performance.getEntriesByType("navigation")
  );
  if (!event.persisted && entry?.type !== "back_forward") return;
  for (const form of document.forms) form.reset();
  if (event.persisted) refresh();
});
