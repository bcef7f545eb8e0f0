/** The part that a close-up shows is drawn over the program: a frame to be moved and sized. */
import { wholeBox } from "../lib/table_geometry.js";
import { mount as mountLayers } from "./stage_layers.js";

const SHARE = 0.5;

/**
 * @param {SVGSVGElement} svg over the program; its viewBox is the program's frame
 * @param {import("./take_player.js").TakePlayer} player
 */
export function mount(svg, player) {
  const stop = new AbortController();
  const stage = mountLayers(svg, { moved: fill, dropped: fill });
  let isOpen = false;
  /** @type {import("./stage_layers.js").Layer | null} */
  let drawn = null;

  /** What is drawn stays within the frame. @param {import("./stage_layers.js").Layer} layer */
  function fill(layer) {
    drawn = layer;
    const frame = svg.viewBox.baseVal;
    const { left, top, width, height } = wholeBox(layer.box);
    const box = { left: Math.max(0, left), top: Math.max(0, top), width, height };
    box.width = Math.max(1, Math.min(left + width, frame.width) - box.left);
    box.height = Math.max(1, Math.min(top + height, frame.height) - box.top);
    for (const [name, value] of Object.entries(box)) {
      const fields = /** @type {NodeListOf<HTMLInputElement>} */ (
        document.querySelectorAll(`input[data-near=${name}]`)
      );
      for (const field of fields) field.value = String(value);
    }
    const times = document.querySelector("#close-up-times");
    if (times instanceof HTMLSelectElement) times.value = "drawn";
  }

  const show = () => {
    svg.toggleAttribute("hidden", !isOpen);
    document.querySelector("[data-near-draw]")?.setAttribute("aria-pressed", String(isOpen));
  };

  const open = () => {
    if (player.playing) player.toggle();
    if (player.choice.seen !== "program") player.choose(() => player.choice.toProgram());
    const { width, height } = svg.viewBox.baseVal;
    const box = {
      left: (width * (1 - SHARE)) / 2,
      top: (height * (1 - SHARE)) / 2,
      width: width * SHARE,
      height: height * SHARE,
    };
    const layer = { id: "near", name: "The part to go nearer to", turn: 0, box };
    show();
    stage.show([layer]);
    fill(layer);
    /** @type {SVGElement | null} */ (svg.querySelector("[data-layer]"))?.focus();
  };

  document.addEventListener(
    "click",
    (event) => {
      if (!(/** @type {Element} */ (event.target).closest?.("[data-near-draw]"))) return;
      isOpen = !isOpen;
      if (isOpen) open();
      else show();
    },
    { signal: stop.signal },
  );
  document.addEventListener(
    "submit",
    (event) => {
      if (!(/** @type {Element} */ (event.target).querySelector("[data-near-draw]"))) return;
      isOpen = false;
      show();
    },
    { signal: stop.signal },
  );
  document.addEventListener(
    "parts:swapped",
    () => {
      show();
      if (isOpen && drawn) fill(drawn);
    },
    { signal: stop.signal },
  );
  return {
    destroy() {
      stop.abort();
      stage.destroy();
    },
  };
}
