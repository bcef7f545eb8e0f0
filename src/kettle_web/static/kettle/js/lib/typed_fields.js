/**
 * What the user did to fields, so that an answer takes nothing of it away: what is being typed,
 * what goes when a button is pressed, what is on its way, what could not be sent.
 *
 * @typedef {HTMLInputElement | HTMLTextAreaElement | HTMLSelectElement} Field
 */
import { untouched } from "./asking.js";

const TYPED = "input:not([type]), [type=text], [type=number], [type=email], [type=url], textarea";
export const SAVES_ITSELF = "[data-save]:not([data-save=submit])";

/** Whether something is typed into it, letter by letter. @param {Element} field */
export const isTyped = (field) => field.matches(TYPED);

/** What stands in a field. @param {Field} field */
export const standsIn = (field) =>
  field instanceof HTMLInputElement && ["checkbox", "radio"].includes(field.type)
    ? String(field.checked)
    : field.value;

const fieldsOf = (/** @type {HTMLFormElement} */ form) =>
  /** @type {Field[]} */ (
    [...form.elements].filter((one) => one.matches("input, select, textarea"))
  );

/** @param {Document} page */
export function typedFields(page) {
  /** Changed by the user, and sent by a button only. @type {WeakSet<Element>} */
  const edited = new WeakSet();
  /** What stood in a field when it was last saved. @type {WeakMap<Element, string>} */
  const saved = new WeakMap();
  /** On their way. @type {WeakMap<Element, number>} */
  const going = new WeakMap();
  /** Forms with something that is still to be sent: it would be lost if they were morphed. @type {WeakSet<Element>} */
  const held = new WeakSet();
  /** Forms of which something could not be sent. @type {Set<HTMLFormElement>} */
  const unsent = new Set();
  /** What stood in the fields of what is sent. @type {WeakMap<FormData, [Field, string][]>} */
  const sent = new WeakMap();
  /** @type {WeakMap<FormData, HTMLFormElement>} */
  const forms = new WeakMap();

  page.addEventListener("input", (event) => {
    const field = /** @type {Field} */ (event.target);
    if (field.form && !field.form.matches(SAVES_ITSELF)) edited.add(field);
  });

  const isBeingTyped = (/** @type {Field} */ field) =>
    field === page.activeElement &&
    isTyped(field) &&
    field.value !== /** @type {HTMLInputElement} */ (field).defaultValue &&
    field.value !== saved.get(field);

  return {
    /**
     * What a form says, in the way it is sent: which of its fields nobody touched.
     * @param {HTMLFormElement} form @param {HTMLElement | null} button
     */
    dataOf(form, button = null) {
      const data = new FormData(form, button?.isConnected ? button : null);
      const facts = [.../** @type {Iterable<any>} */ (form.elements)].map((field) => ({
        name: field.name,
        type: field.type,
        value: field.value,
        defaultValue: field.defaultValue,
        checked: field.checked,
        defaultChecked: field.defaultChecked,
        options: field.options,
        invalid: field.getAttribute("aria-invalid") === "true",
      }));
      const names = untouched(facts);
      if (names.length) data.set("untouched", names.join(" "));
      sent.set(
        data,
        fieldsOf(form).map((field) => [field, standsIn(field)]),
      );
      forms.set(data, form);
      return data;
    },

    /** It is on its way: nothing sets its fields back before there is an answer. @param {FormData} data */
    begin(data) {
      for (const [field] of sent.get(data) ?? []) going.set(field, (going.get(field) ?? 0) + 1);
    },

    /**
     * An answer has come, or none: what was saved may be set by it; what was not stays as it was
     * typed, and its form is one of those that are unsent.
     * @param {FormData} data @param {boolean} isSaved
     */
    end(data, isSaved) {
      for (const [field, stood] of sent.get(data) ?? []) {
        going.set(field, (going.get(field) ?? 1) - 1);
        if (!isSaved || standsIn(field) !== stood) continue;
        saved.set(field, stood);
        edited.delete(field);
      }
      const form = forms.get(data);
      if (form && isSaved) unsent.delete(form);
      else if (form) unsent.add(form);
    },

    /** The server will not have it: what was typed stays to be mended, the rest shows what is. @param {FormData} data */
    refuse(data) {
      this.end(data, true);
      for (const [field, stood] of sent.get(data) ?? []) {
        if (!isTyped(field) || standsIn(field) !== stood || field.type === "hidden") continue;
        if (stood !== /** @type {HTMLInputElement} */ (field).defaultValue) edited.add(field);
      }
    },

    /** The form that was sent so. @param {FormData} data */
    formOf: (data) => forms.get(data) ?? null,

    /** Forms of the page of which something could not be sent. */
    unsent() {
      for (const form of unsent) if (!form.isConnected) unsent.delete(form);
      return [...unsent];
    },

    /** The form that saves itself and is typed into now, if its text was not sent yet. */
    typedNow() {
      const field = /** @type {Field | null} */ (page.activeElement);
      if (!field?.form?.matches(SAVES_ITSELF) || !isBeingTyped(field)) return null;
      return field.form;
    },

    /** Somebody has typed it, as it was there before. @param {Field} field */
    mark(field) {
      edited.add(field);
    },

    /** @param {HTMLFormElement} form @param {boolean} on */
    hold(form, on) {
      if (on) held.add(form);
      else held.delete(form);
    },

    /** Whether a form is still to be sent. @param {Element} form */
    isHeld: (form) => held.has(form),

    /** Whether what stands in a field is newer than what the server knows of it. @param {Field} field */
    isNewer: (field) =>
      edited.has(field) ||
      (going.get(field) ?? 0) > 0 ||
      (field.form !== null && unsent.has(field.form)) ||
      isBeingTyped(field),
  };
}
