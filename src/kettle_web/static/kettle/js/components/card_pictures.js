import { takeData } from "./take_data.js";

/**
 * Moves through a take's small pictures, on its card: under the pointer, or by arrow keys where
 * the card has the focus.
 */
export function mount() {
  const stop = new AbortController();
  const on = { signal: stop.signal };
  /** @type {WeakMap<HTMLElement, ReturnType<typeof card>>} */
  const known = new WeakMap();
  const found = (/** @type {Event} */ event) => {
    const target = /** @type {HTMLElement} */ (event.target);
    const place = /** @type {HTMLElement | null} */ (target.closest?.("[data-card]"));
    if (!place) return null;
    const made = known.get(place) ?? card(place, stop.signal);
    known.set(place, made);
    return made;
  };
  document.addEventListener("pointermove", (event) => found(event)?.point(event.clientX), on);
  document.addEventListener("pointerout", (event) => found(event)?.rest(), on);
  document.addEventListener("focusout", (event) => found(event)?.rest(), on);
  document.addEventListener(
    "keydown",
    (event) => {
      const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
      const one = by && !event.ctrlKey && !event.altKey && !event.metaKey ? found(event) : null;
      if (!one || !by) return;
      event.preventDefault();
      one.step(by);
    },
    on,
  );
  return { destroy: () => stop.abort() };
}

/** @param {HTMLElement} place @param {AbortSignal} signal */
function card(place, signal) {
  const data = takeData(place.dataset.card ?? "", () => draw());
  signal.addEventListener("abort", () => data.destroy());
  const canvas = document.createElement("canvas");
  canvas.className = "card-moving";
  canvas.hidden = true;
  place.append(canvas);
  let share = 0;
  let wanted = false;
  data.load().catch(() => {});

  function draw() {
    const track = data.now?.tracks.find((one) => one.sheets);
    if (!wanted || !data.now || !track) return;
    const found = data.picture(track, share * data.now.length_s);
    if (!found) return;
    canvas.width = found.width;
    canvas.height = found.height;
    canvas.hidden = false;
    canvas
      .getContext("2d")
      ?.drawImage(
        found.sheet,
        found.left,
        found.top,
        found.width,
        found.height,
        0,
        0,
        found.width,
        found.height,
      );
  }

  return {
    point(/** @type {number} */ x) {
      const box = place.getBoundingClientRect();
      share = Math.min(0.999, Math.max(0, (x - box.left) / box.width));
      wanted = true;
      draw();
    },
    step(/** @type {number} */ by) {
      share = Math.min(0.999, Math.max(0, share + by / 10));
      wanted = true;
      draw();
    },
    rest() {
      wanted = false;
      canvas.hidden = true;
    },
  };
}
