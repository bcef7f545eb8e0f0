const PICTURES = 10;
const RESTS_MS = 120;

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
    const made = known.get(place) ?? card(place);
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

/** @param {HTMLElement} place carries in data-card where its strip of pictures is */
function card(place) {
  const strip = new Image();
  const canvas = document.createElement("canvas");
  canvas.className = "card-moving";
  canvas.hidden = true;
  place.append(canvas);
  let share = 0;
  let wanted = false;
  let timer = 0;

  const draw = () => {
    if (!wanted || !strip.naturalWidth) return;
    const width = Math.round(strip.naturalWidth / PICTURES);
    const left = Math.floor(share * PICTURES) * width;
    canvas.width = width;
    canvas.height = strip.naturalHeight;
    canvas.hidden = false;
    const size = /** @type {const} */ ([width, strip.naturalHeight]);
    canvas.getContext("2d")?.drawImage(strip, left, 0, ...size, 0, 0, ...size);
  };
  strip.addEventListener("load", draw);

  const want = (/** @type {number} */ at, /** @type {number} */ after) => {
    share = Math.min(0.999, Math.max(0, at));
    wanted = true;
    draw();
    // Who only passes over it wants nothing of it.
    if (!strip.src && !timer)
      timer = window.setTimeout(() => {
        if (wanted) strip.src = place.dataset.card ?? "";
        timer = 0;
      }, after);
  };

  return {
    point(/** @type {number} */ x) {
      const box = place.getBoundingClientRect();
      want((x - box.left) / box.width, RESTS_MS);
    },
    step(/** @type {number} */ by) {
      want(share + by / PICTURES, 0);
    },
    rest() {
      wanted = false;
      canvas.hidden = true;
    },
  };
}
