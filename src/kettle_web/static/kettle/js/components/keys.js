const OFF = "keys off";
/** What a key of its own does something to, whatever the page does with that key. */
const CONTROLS =
  "a[href], button, summary, input, select, textarea, [role=option], [contenteditable]";
const TYPED = "input:not([type=hidden], [type=checkbox], [type=radio]), select, textarea";

/** Whether letters are keys at all: who speaks to a machine, or shakes, turns them off. */
const areOn = () => localStorage.getItem(OFF) === null;
const turn = (/** @type {boolean} */ on) =>
  on ? localStorage.removeItem(OFF) : localStorage.setItem(OFF, "1");

/** @returns {HTMLDialogElement} a list of the page's keys, made anew so that it is never wrong */
function listOfKeys() {
  const dialog = document.createElement("dialog");
  dialog.className = "keys";
  const title = document.createElement("h2");
  title.textContent = "Keys of this page";
  const list = document.createElement("dl");
  const rows = [["?", "This list"]];
  for (const found of document.querySelectorAll("[data-key]")) {
    if (!found.checkVisibility({ visibilityProperty: true })) continue;
    const key = /** @type {HTMLElement} */ (found).dataset.key?.toUpperCase() ?? "";
    const words = /** @type {HTMLElement} */ ((found.closest("label") ?? found).cloneNode(true));
    for (const cap of words.querySelectorAll("kbd")) cap.remove();
    rows.push([key, words.textContent?.replace(/\s+/g, " ").trim() ?? ""]);
  }
  for (const [key, words] of rows) {
    const term = document.createElement("dt");
    term.textContent = key;
    const meaning = document.createElement("dd");
    meaning.textContent = words;
    list.append(term, meaning);
  }
  const switched = document.createElement("label");
  switched.className = "form-check";
  const box = document.createElement("input");
  box.type = "checkbox";
  box.className = "form-check-input";
  box.checked = areOn();
  box.addEventListener("change", () => turn(box.checked));
  switched.append(box, " Keys do this on all pages");
  const close = document.createElement("button");
  close.type = "button";
  close.className = "btn act";
  close.textContent = "Close";
  close.addEventListener("click", () => dialog.close());
  dialog.setAttribute("aria-label", title.textContent);
  dialog.append(title, list, switched, close);
  dialog.addEventListener("close", () => dialog.remove());
  return dialog;
}

const SECOND_MS = 2500;

/** The element that carries a key and can be seen. @param {string} selector */
function carrying(selector) {
  const found = /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll(selector));
  return [...found].find((one) => one.checkVisibility({ visibilityProperty: true }));
}

/**
 * Presses the button or link that carries the key in data-key; `?` lists them. A key of two, as
 * "h 1", is pressed one after the other. What a control does with a key of its own, it does: the
 * page has Space where a control was only pointed at.
 */
export function mount() {
  const stop = new AbortController();
  const on = { signal: stop.signal };
  let first = "";
  let timer = 0;
  /** @type {Element | null} */
  let pointed = null;

  const begin = (/** @type {string} */ key) => {
    first = key;
    document.body.dataset.firstKey = key;
    window.clearTimeout(timer);
    timer = window.setTimeout(forget, SECOND_MS);
  };
  const forget = () => {
    first = "";
    delete document.body.dataset.firstKey;
  };
  const list = () => {
    const dialog = listOfKeys();
    document.body.append(dialog);
    dialog.showModal();
  };

  /** Whether a key is a control's own. @param {KeyboardEvent} event */
  const isOfControl = (event) => {
    const target = /** @type {Element} */ (event.target);
    if (target.matches(TYPED)) return event.key !== "Escape";
    if (![" ", "Enter"].includes(event.key)) return false;
    return target.matches(CONTROLS) && (target !== pointed || event.key === "Enter");
  };

  document.addEventListener(
    "pointerdown",
    (event) => {
      pointed = /** @type {Element} */ (event.target).closest(CONTROLS);
    },
    { ...on, capture: true },
  );
  // Who comes back to it by keys means it.
  document.addEventListener(
    "focusout",
    (event) => {
      if (event.target === pointed) pointed = null;
    },
    on,
  );
  document.addEventListener(
    "click",
    (event) => {
      if (/** @type {Element} */ (event.target).closest("[data-list-keys]")) list();
    },
    on,
  );
  document.addEventListener(
    "keydown",
    (event) => {
      // Who goes on by keys means what has the focus.
      if (event.key === "Tab") pointed = null;
      if (event.ctrlKey || event.metaKey || event.altKey || event.repeat) return;
      if (isOfControl(event) || document.querySelector("dialog[open]")) return;
      if (event.key !== "Escape" && !areOn()) return;
      if (event.key === "?") {
        list();
        return;
      }
      const key = event.key.toLowerCase();
      const wanted = first ? `${first} ${key}` : key;
      forget();
      const found = carrying(`[data-key="${CSS.escape(wanted)}"]`);
      if (!found && carrying(`[data-key^="${CSS.escape(`${key} `)}"]`)) {
        event.preventDefault();
        begin(key);
        return;
      }
      if (!found || found.matches(":disabled")) return;
      event.preventDefault();
      found.click();
    },
    on,
  );
  /** @type {NodeListOf<HTMLElement>} */
  const lists = document.querySelectorAll("[data-list-keys]");
  for (const button of lists) button.hidden = false;
  return {
    destroy() {
      stop.abort();
      window.clearTimeout(timer);
    },
  };
}
