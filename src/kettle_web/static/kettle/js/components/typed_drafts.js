import { drafts } from "../lib/drafts.js";
import { fields } from "../lib/page.js";
import { isTyped, SAVES_ITSELF } from "../lib/typed_fields.js";

const SETTLE_MS = 400;

/** @typedef {HTMLInputElement | HTMLTextAreaElement} Typed */

/** By what a field is known again: its own name and id, and those of its form. @param {Typed} field */
const nameOf = (field) => {
  const part = field.form?.elements.namedItem("part");
  const of = part instanceof HTMLInputElement ? part.value : "";
  return [field.form?.getAttribute("action") ?? "", of, field.id, field.name].join(" ");
};

/** Whether what is typed there is kept: what is only looked for is not. @param {Element} field */
const isKept = (field) => isTyped(field) && /** @type {Typed} */ (field).form?.method === "post";

/** Keeps what is typed until it is saved, and shows it again where the page was left before. */
export function mount() {
  const stop = new AbortController();
  const on = { signal: stop.signal };
  const kept = drafts(localStorage, location.pathname);
  /** @type {Map<Typed, number>} */
  const timers = new Map();

  const all = () =>
    /** @type {Typed[]} */ ([...document.querySelectorAll("input, textarea")].filter(isKept));

  const keep = (/** @type {Typed} */ field) => {
    window.clearTimeout(timers.get(field));
    timers.delete(field);
    if (field.isConnected) kept.keep(nameOf(field), field.defaultValue, field.value);
  };

  const show = () => {
    const byName = new Map(all().map((field) => [nameOf(field), field]));
    const shown = new Map([...byName].map(([name, field]) => [name, field.defaultValue]));
    for (const [name, text] of kept.again(shown)) {
      const field = /** @type {Typed} */ (byName.get(name));
      field.value = text;
      fields().mark(field);
      // What saves itself is saved now, as it would have been.
      if (field.form?.matches(SAVES_ITSELF))
        field.dispatchEvent(new Event("change", { bubbles: true }));
    }
  };

  document.addEventListener(
    "input",
    (event) => {
      const field = /** @type {Typed} */ (event.target);
      if (!isKept(field)) return;
      window.clearTimeout(timers.get(field));
      timers.set(field, window.setTimeout(keep, SETTLE_MS, field));
    },
    on,
  );
  const forget = (/** @type {HTMLFormElement | null} */ form) => {
    if (!form) return;
    const mine = all().filter((field) => field.form === form);
    for (const field of mine) {
      window.clearTimeout(timers.get(field));
      timers.delete(field);
    }
    kept.forget(mine.map(nameOf));
  };
  document.addEventListener(
    "page:saved",
    (event) => forget(fields().formOf(/** @type {CustomEvent} */ (event).detail)),
    on,
  );
  // A form that leads to another page is told by that one what was wrong.
  document.addEventListener(
    "submit",
    (event) => {
      if (!event.defaultPrevented) forget(/** @type {HTMLFormElement} */ (event.target));
    },
    on,
  );
  window.addEventListener(
    "pagehide",
    () => {
      for (const field of [...timers.keys()]) keep(field);
    },
    on,
  );
  show();
  return {
    destroy() {
      stop.abort();
      for (const timer of timers.values()) window.clearTimeout(timer);
    },
  };
}
