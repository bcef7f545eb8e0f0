import { refresh } from "../lib/page.js";

const AGAIN_MS = 1500;
const REMEASURE_MS = 12000;

/**
 * Keeps folds of the fact column open when its parts are exchanged, shows or hides the matte, and asks for sizes of text again, soon where they were not measured yet (data-again).
 */
export function mount() {
  const stop = new AbortController();
  const on = { signal: stop.signal };
  let open =
    /** @type {HTMLElement | null} */ (document.querySelector("details[data-fold][open]"))?.dataset
      .fold ?? "";
  let matte = "";

  const showMatte = () => {
    const button = document.querySelector("[data-matte-of]");
    if (button?.getAttribute("data-matte-of") !== matte) matte = "";
    button?.setAttribute("aria-pressed", String(matte !== ""));
    const canvas = /** @type {HTMLCanvasElement} */ (document.querySelector("[data-matte]"));
    canvas.hidden = matte === "";
    if (matte) canvas.dataset.picture = matte;
    else delete canvas.dataset.picture;
  };

  let timer = 0;
  const again = async () => {
    // Not while somebody is choosing or typing.
    const busy = document.hidden || document.activeElement?.matches("select, input, textarea");
    if (busy) {
      timer = window.setTimeout(again, REMEASURE_MS);
      return;
    }
    if (!(await refresh(true))) follow();
  };

  const follow = () => {
    window.clearTimeout(timer);
    const wait = document.querySelector("[data-again]") ? AGAIN_MS : REMEASURE_MS;
    timer = window.setTimeout(again, wait);
    const fold = /** @type {HTMLDetailsElement | null} */ (
      open ? document.querySelector(`details[data-fold="${open}"]`) : null
    );
    if (fold) fold.open = true;
    showMatte();
  };

  document.addEventListener(
    "toggle",
    (event) => {
      const fold = /** @type {HTMLDetailsElement} */ (event.target);
      if (!fold.matches("details[data-fold]") || !fold.isConnected) return;
      if (fold.open) open = fold.dataset.fold ?? "";
      else if (open === fold.dataset.fold) open = "";
    },
    { ...on, capture: true },
  );
  document.addEventListener(
    "click",
    (event) => {
      const target = /** @type {Element} */ (event.target);
      const button = target.closest("[data-matte-of]");
      if (!button) return;
      const wanted = button.getAttribute("data-matte-of") ?? "";
      matte = matte === wanted ? "" : wanted;
      showMatte();
      document.dispatchEvent(new CustomEvent("parts:swapped"));
    },
    on,
  );
  document.addEventListener("parts:swapped", follow, on);
  follow();
  return {
    destroy() {
      stop.abort();
      window.clearTimeout(timer);
    },
  };
}
