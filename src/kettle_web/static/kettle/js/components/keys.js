/** @returns {HTMLDialogElement} a list of the page's keys, made anew so that it is never wrong */
function listOfKeys() {
  const dialog = document.createElement("dialog");
  dialog.className = "keys";
  const title = document.createElement("h2");
  title.textContent = "Keys of this page";
  const list = document.createElement("dl");
  const rows = [["?", "This list"]];
  for (const found of document.querySelectorAll("[data-key]")) {
    if (found.closest("[hidden]")) continue;
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
  const close = document.createElement("button");
  close.type = "button";
  close.className = "btn act";
  close.textContent = "Close";
  close.addEventListener("click", () => dialog.close());
  dialog.setAttribute("aria-label", title.textContent);
  dialog.append(title, list, close);
  dialog.addEventListener("close", () => dialog.remove());
  return dialog;
}

const SECOND_MS = 2500;

/** The visible element that carries a key. @param {string} selector */
function carrying(selector) {
  const found = /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll(selector));
  return [...found].find((one) => !one.closest("[hidden]") && !one.closest("dialog:not([open])"));
}

/**
 * Presses the button or link that carries the key in data-key; `?` lists them. A key of two, as
 * "h 1", is pressed one after the other.
 */
export function mount() {
  const stop = new AbortController();
  let first = "";
  let timer = 0;

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

  document.addEventListener(
    "keydown",
    (event) => {
      if (event.ctrlKey || event.metaKey || event.altKey || event.repeat) return;
      const target = /** @type {HTMLElement} */ (event.target);
      if (
        target.matches(
          "input:not([type=hidden], [type=checkbox], [type=radio]), select, textarea",
        ) &&
        event.key !== "Escape"
      ) {
        // Letters that are no numbers still reach the keys of the page from a number field.
        if (target.getAttribute("type") !== "number" || /[-+.,\d]/.test(event.key)) return;
      }
      if (document.querySelector("dialog[open]")) return;
      if (event.key === "?") {
        const dialog = listOfKeys();
        document.body.append(dialog);
        dialog.showModal();
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
    { signal: stop.signal },
  );
  return {
    destroy() {
      stop.abort();
      window.clearTimeout(timer);
    },
  };
}
