/** Layers of a take are placed in the player's picture, from the play head on or for the stretch. */
import { dataOf, isSaving, save, saveOnLeaving } from "../lib/page.js";
import { wholeBox } from "../lib/table_geometry.js";
import { mount as mountLayers } from "./stage_layers.js";

const SETTLE_MS = 400;

/**
 * @param {SVGSVGElement} svg @param {import("./take_player.js").TakePlayer} player
 * @param {import("./take_view.js").TakeView} view
 */
export function mount(svg, player, view) {
  const stop = new AbortController();
  const on = { signal: stop.signal };
  const form = () => /** @type {HTMLFormElement} */ (document.querySelector("[data-place-layer]"));
  const button = () => document.querySelector("[data-take=place]");
  const stage = mountLayers(svg, { dropped: settle });
  let isOpen = false;
  let scene = "";
  let words = "";
  let asked = 0;
  let timer = 0;
  let saving = 0;
  /** Where it is sent, and a place that is still to be sent. @type {[string, FormData] | null} */
  let pending = null;

  /** Keys come one after the other; the last place counts, at the time at which it was pressed. @param {import("./stage_layers.js").Layer} layer */
  function settle(layer) {
    const data = dataOf(form());
    const values = { part: "place", scene, layer: layer.id, turn: layer.turn };
    for (const [name, value] of Object.entries({ ...values, ...wholeBox(layer.box) }))
      data.set(name, String(value));
    pending = [form().action, data];
    window.clearTimeout(saving);
    saving = window.setTimeout(() => send(save), SETTLE_MS);
  }

  /** The place that the form is about, as it is asked for. */
  function placeAsked() {
    const data = dataOf(form());
    data.delete("csrfmiddlewaretoken");
    return new URLSearchParams(/** @type {any} */ (data));
  }

  /** @param {(address: string, data: FormData) => void} how */
  function send(how) {
    window.clearTimeout(saving);
    saving = 0;
    // What was asked for before does not know of it.
    asked += 1;
    if (pending) how(...pending);
    pending = null;
  }

  /** Whether the program is seen, in which layers lie, and stands still. */
  const isSeen = () => isOpen && player.choice.seen === "program" && !player.playing;

  const show = () => {
    svg.toggleAttribute("hidden", !isSeen());
    button()?.setAttribute("aria-pressed", String(isOpen));
    const place = document.querySelector("[data-stage-words]");
    if (place) place.textContent = isSeen() ? words : "";
  };

  /** Whether a place is held or not saved yet: what the server knows is older. */
  const isOnItsWay = () => saving > 0 || isSaving() || stage.moving();

  const load = async () => {
    show();
    if (!isSeen() || isOnItsWay()) return;
    const mine = ++asked;
    const at = view.stretch?.[0] ?? view.at;
    const answer = await fetch(`${svg.dataset.layersAt}?${placeAsked()}`, on);
    if (!answer.ok || mine !== asked || isOnItsWay()) return;
    const found = await answer.json();
    svg.setAttribute("viewBox", `0 0 ${found.frame.join(" ")}`);
    scene = found.scene;
    words = stage.show(found.layers)
      ? "Drag a layer, or move it with the arrow keys."
      : "Here everything fills the frame, so nothing can be moved.";
    show();
    svg.dataset.at = at.toFixed(4);
  };

  const soon = () => {
    if (!isOpen) return;
    show();
    window.clearTimeout(timer);
    timer = window.setTimeout(() => load().catch(() => {}), 120);
  };

  for (const what of ["at", "stretch"]) view.addEventListener(what, soon, on);
  document.addEventListener("player:changed", soon, { ...on, capture: true });
  document.addEventListener("parts:swapped", soon, on);
  window.addEventListener("pagehide", () => send(saveOnLeaving), on);
  return {
    toggle() {
      isOpen = !isOpen;
      show();
      if (!isOpen) return;
      if (player.playing) player.toggle();
      if (player.choice.seen !== "program") player.choose(() => player.choice.toProgram());
      // What is placed is what is seen: a stretch begins where it was marked.
      if (view.stretch) view.go(view.stretch[0]);
      soon();
    },
    destroy() {
      stop.abort();
      stage.destroy();
      window.clearTimeout(timer);
      window.clearTimeout(saving);
    },
  };
}
