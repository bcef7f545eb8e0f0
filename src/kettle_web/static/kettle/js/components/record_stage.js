/** Layers of the program are moved while recording; the engine is told of each place. */
import { wholeBox } from "../lib/table_geometry.js";
import { mount as mountLayers } from "./stage_layers.js";

/** @typedef {import("./stage_layers.js").Layer} Layer */

const SEND_MS = 90;

/** @param {SVGSVGElement | null} svg @returns {{destroy: () => void}} */
export function mount(svg) {
  if (!svg) return { destroy: () => {} };
  const stop = new AbortController();
  const cues = /** @type {HTMLFormElement} */ (document.querySelector("[data-cues]"));
  const stage = mountLayers(svg, { moved: place, dropped: place });
  let scene = "";
  let told = "";
  let sentAt = 0;
  let isSending = false;
  /** @type {Layer | null} */
  let next = null;
  let timer = 0;

  /** The newest place is sent, whatever comes between, and one after the other. @param {Layer} layer */
  function place(layer) {
    next = layer;
    svg?.setAttribute("data-sending", "");
    void send();
  }

  async function send() {
    window.clearTimeout(timer);
    if (!isSending && !next) svg?.removeAttribute("data-sending");
    if (isSending || !next) return;
    const wait = sentAt + SEND_MS - performance.now();
    if (wait > 0) {
      timer = window.setTimeout(send, wait);
      return;
    }
    const layer = next;
    next = null;
    isSending = true;
    sentAt = performance.now();
    const data = new FormData(cues);
    data.set("cue", `place ${layer.id}`);
    data.set("scene", scene);
    data.set("box", JSON.stringify(wholeBox(layer.box)));
    data.set("turn", JSON.stringify(layer.turn));
    data.set("id", crypto.randomUUID());
    const headers = { Accept: "application/json" };
    try {
      const answer = await fetch(cues.action, {
        method: "POST",
        body: data,
        headers,
        signal: stop.signal,
      });
      const told = await answer.json();
      isSending = false;
      // What the engine told of before this answer is known to be older, and left out.
      const detail = answer.ok ? told : told.error;
      document.dispatchEvent(
        new CustomEvent(answer.ok ? "record:cues" : "record:failed", { detail }),
      );
    } catch {
      // The page says by itself that the connection is lost.
      isSending = false;
    }
    void send();
  }

  document.addEventListener(
    "record:layers",
    (event) => {
      const take = /** @type {CustomEvent} */ (event).detail;
      // What is on its way is newer than what the engine tells of.
      if (!take.layers || stage.moving() || isSending || next) return;
      const news = JSON.stringify([take.scene, take.layers]);
      if (told === news) return;
      told = news;
      scene = take.scene;
      stage.show(take.layers);
    },
    { signal: stop.signal },
  );
  document.addEventListener(
    "parts:swapped",
    () => {
      const frame = /** @type {HTMLElement | null} */ (document.querySelector("[data-frame]"));
      if (frame?.dataset.frame) svg.setAttribute("viewBox", frame.dataset.frame);
    },
    { signal: stop.signal },
  );
  return {
    destroy() {
      stop.abort();
      stage.destroy();
      window.clearTimeout(timer);
    },
  };
}
