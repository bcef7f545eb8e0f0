import Sortable from "../../vendor/sortable.core.esm.js";

/**
 * Scenes along the top, layers from back to front and steps are put in order by dragging.
 */
export function mount() {
  const stop = new AbortController();
  /** @type {{destroy: () => void}[]} */
  let sortables = [];
  const animation = matchMedia("(prefers-reduced-motion: reduce)").matches ? 0 : 120;

  /** @param {string} list @param {string} form @param {string} id @param {string} name @param {string} place */
  const attachOne = (list, form, id, name, place) => {
    const found = /** @type {HTMLElement | null} */ (document.querySelector(list));
    if (!found?.querySelector(`[data-${id}]`)) return;
    const options = {
      animation,
      forceFallback: true,
      fallbackTolerance: 4,
      filter: "input, select, textarea, button",
      preventOnFilter: false,
      onEnd: (/** @type {{item: HTMLElement, oldIndex?: number, newIndex?: number}} */ event) => {
        if (event.newIndex === undefined || event.newIndex === event.oldIndex) return;
        const target = /** @type {HTMLFormElement} */ (document.querySelector(form));
        /** @type {HTMLInputElement} */ (target.elements.namedItem(name)).value =
          event.item.dataset[id] ?? "";
        /** @type {HTMLInputElement} */ (target.elements.namedItem(place)).value = String(
          event.newIndex,
        );
        target.requestSubmit();
      },
    };
    sortables.push(Sortable.create(found, options));
  };

  const attach = () => {
    for (const sortable of sortables) sortable.destroy();
    sortables = [];
    attachOne("[data-scenes]", "[data-scene-order]", "scene", "scene", "place");
    attachOne("[data-stack]", "[data-stack-order]", "layer", "layer", "to");
    attachOne("[data-steps]", "[data-step-order]", "step", "step", "place");
  };

  document.addEventListener("parts:swapped", attach, { signal: stop.signal });
  attach();
  return {
    destroy() {
      stop.abort();
      for (const sortable of sortables) sortable.destroy();
    },
  };
}
