import Sortable from "../../vendor/sortable.core.esm.js";

/**
 * The patch sheet's rows are ordered by dragging their handles or by the arrow keys on them;
 * arrow keys go from crosspoint to crosspoint.
 * @param {HTMLFormElement} form takes input and place
 */
export function mount(form) {
  const stop = new AbortController();
  /** @type {{destroy: () => void} | null} */
  let sortable = null;

  const move = (/** @type {string} */ input, /** @type {number} */ place) => {
    /** @type {HTMLInputElement} */ (form.elements.namedItem("input")).value = input;
    /** @type {HTMLInputElement} */ (form.elements.namedItem("place")).value = String(place);
    form.requestSubmit();
  };

  const attach = () => {
    sortable?.destroy();
    const body = /** @type {HTMLElement | null} */ (document.querySelector("[data-rows]"));
    if (!body) return;
    sortable = Sortable.create(body, {
      handle: "[data-handle]",
      // The browser's own dragging knows neither touch nor the row's size.
      forceFallback: true,
      fallbackTolerance: 3,
      animation: matchMedia("(prefers-reduced-motion: reduce)").matches ? 0 : 120,
      onEnd: (/** @type {{item: HTMLElement, oldIndex?: number, newIndex?: number}} */ event) => {
        if (event.newIndex !== undefined && event.newIndex !== event.oldIndex) {
          move(event.item.dataset.row ?? "", event.newIndex);
        }
      },
    });
  };

  const step = (/** @type {HTMLElement} */ cross, /** @type {string} */ key) => {
    const cell = /** @type {HTMLTableCellElement} */ (cross.closest("td"));
    const row = /** @type {HTMLTableRowElement} */ (cell.closest("tr"));
    if (key === "ArrowLeft" || key === "ArrowRight") {
      const all = [...row.querySelectorAll(".cross")];
      return all[all.indexOf(cross) + (key === "ArrowLeft" ? -1 : 1)];
    }
    let next = key === "ArrowUp" ? row.previousElementSibling : row.nextElementSibling;
    while (next) {
      const found = next.children[cell.cellIndex]?.querySelector(".cross");
      if (found) return found;
      next = key === "ArrowUp" ? next.previousElementSibling : next.nextElementSibling;
    }
    return null;
  };

  document.addEventListener(
    "keydown",
    (event) => {
      const target = /** @type {HTMLElement} */ (event.target);
      if (!event.key.startsWith("Arrow")) return;
      if (target.matches("[data-handle]") && ["ArrowUp", "ArrowDown"].includes(event.key)) {
        const row = /** @type {HTMLTableRowElement} */ (target.closest("tr"));
        const here = [.../** @type {Element} */ (row.parentElement).children].indexOf(row);
        event.preventDefault();
        move(row.dataset.row ?? "", Math.max(0, here + (event.key === "ArrowUp" ? -1 : 1)));
      } else if (target.matches(".cross")) {
        event.preventDefault();
        /** @type {HTMLElement | null | undefined} */ (step(target, event.key))?.focus();
      }
    },
    { signal: stop.signal },
  );
  document.addEventListener("parts:swapped", attach, { signal: stop.signal });
  attach();
  return {
    destroy() {
      stop.abort();
      sortable?.destroy();
    },
  };
}
