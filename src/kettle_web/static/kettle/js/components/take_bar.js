import "./plan_media.js";
import { ruleTime } from "../lib/take_lanes.js";
import { placeIn } from "../lib/take_place.js";

const TELL_EVERY_MS = 100;
/** A viewer that began anew learns where one is, ms. */
const AGAIN_MS = 2000;

/**
 * The play head of a take whose rig is changed: pictures and sounds are those at it. Plays the
 * take as it is by now. Does nothing on pages of other rigs.
 * @param {HTMLElement} live the element that is told `live:head`
 */
export function mount(live) {
  const bar = /** @type {HTMLElement | null} */ (document.querySelector("[data-take-bar]"));
  if (!bar) return { destroy() {} };
  const stop = new AbortController();
  const one = (/** @type {string} */ name) =>
    /** @type {HTMLElement} */ (bar.querySelector(`[data-bar-${name}]`));
  const range = /** @type {HTMLInputElement} */ (one("place"));
  const kept = placeIn(bar.dataset.takeBar ?? "");
  const media = /** @type {import("./plan_media.js").PlanMedia} */ (
    document.createElement("plan-media")
  );
  const address = () => `${bar.dataset.plan}?revision=${document.body.dataset.revision}`;
  let at = kept.at;
  let told = "";
  let toldAt = 0;

  const show = () => {
    range.value = String(at);
    one("at").textContent = ruleTime(at, 0.1);
    one("word").textContent = media.paused ? "Play" : "Pause";
  };

  const tell = () => {
    if (!media.paused) at = media.currentTime;
    show();
    const head = { at: media.paused ? at : Math.round(at / 2) * 2, playing: !media.paused };
    const now = performance.now();
    const next = JSON.stringify(head);
    if (next === told && now - toldAt < AGAIN_MS) return;
    told = next;
    toldAt = now;
    live.dispatchEvent(new CustomEvent("live:head", { detail: { ...head, at } }));
  };

  range.addEventListener(
    "input",
    () => {
      at = Number(range.value);
      kept.at = at;
      media.currentTime = at;
      show();
    },
    { signal: stop.signal },
  );
  one("play").addEventListener(
    "click",
    () => {
      if (media.paused) {
        if (at >= Number(range.max) - 0.05) at = 0;
        media.currentTime = at;
        void media.play();
      } else {
        at = media.currentTime;
        kept.at = at;
        media.pause();
      }
      tell();
    },
    { signal: stop.signal },
  );
  // What was changed is heard and seen.
  document.addEventListener(
    "parts:swapped",
    () => {
      if (media.src !== address()) media.src = address();
    },
    { signal: stop.signal },
  );
  // Take time is shorter than what was recorded where there were pauses.
  fetch(bar.dataset.overview ?? "", { signal: stop.signal })
    .then((answer) => answer.json())
    .then(({ length_s }) => {
      range.max = String(length_s);
      at = Math.min(at, length_s);
      show();
    })
    .catch(() => {});
  media.src = address();
  one("picture").append(media);
  media.currentTime = at;
  bar.hidden = false;
  const timer = window.setInterval(tell, TELL_EVERY_MS);
  tell();
  return {
    destroy() {
      stop.abort();
      window.clearInterval(timer);
      media.remove();
    },
  };
}
