import { drawnWith, sized } from "./canvas.js";
import { drawLanes, lanesOf, RULE } from "./lane_drawing.js";
import { goByKey, isTaken, pointAt } from "./pointing.js";

const WHEEL = 0.0015;

/**
 * The seconds round the play head, track by track under one rule. Click goes there, dragging marks
 * a stretch, the wheel with Ctrl zooms, arrow keys go frame by frame.
 * @param {HTMLElement} root @param {import("./take_data.js").TakeData} data
 * @param {import("./take_view.js").TakeView} view
 */
export function mount(root, data, view) {
  const stop = new AbortController();
  const on = { signal: stop.signal };
  const canvas = /** @type {HTMLCanvasElement} */ (root.querySelector("canvas"));
  const labels = /** @type {HTMLElement} */ (root.querySelector("[data-lane-labels]"));
  let width = 0;

  const draw = () => {
    const take = data.now;
    if (!take) return;
    width = Math.max(100, canvas.parentElement?.clientWidth ?? 0);
    const height = lanesOf(take).reduce((sum, lane) => sum + lane.high, RULE);
    drawLanes({ pen: sized(canvas, width, height), width, take, data, view }, height);
    label(labels, take);
  };

  const timeOf = (/** @type {MouseEvent} */ event) => {
    const box = canvas.getBoundingClientRect();
    return view.near.from + ((event.clientX - box.left) / width) * view.near.length;
  };
  pointAt(root, canvas, timeOf, view, stop.signal);
  canvas.addEventListener(
    "wheel",
    (event) => {
      const across = event.shiftKey || Math.abs(event.deltaY) < Math.abs(event.deltaX);
      if (!event.ctrlKey && !across) return;
      event.preventDefault();
      if (event.ctrlKey) return view.zoom(Math.exp(event.deltaY * WHEEL), timeOf(event));
      const by = ((event.deltaX || event.deltaY) / width) * view.near.length;
      view.show({ from: view.near.from + by, length: view.near.length });
    },
    { ...on, passive: false },
  );
  root.addEventListener(
    "keydown",
    (event) => {
      if (isTaken(event)) return;
      const frame = 1 / (data.now?.fps || 30);
      // Onto whole frames, where pictures change.
      const to = {
        ArrowLeft: (Math.round(view.at / frame) - 1) * frame,
        ArrowRight: (Math.round(view.at / frame) + 1) * frame,
        PageUp: view.at - view.near.length,
        PageDown: view.at + view.near.length,
      }[event.key];
      if (to !== undefined) goByKey(event, view, to);
      else if (event.key === "+" || event.key === "-") {
        event.preventDefault();
        view.zoom(event.key === "+" ? 0.5 : 2);
      }
    },
    on,
  );
  return drawnWith(root, view, draw, stop);
}

/** The names of the lanes, beside them. @param {HTMLElement} labels @param {import("./take_data.js").Overview} take */
function label(labels, take) {
  const rows = lanesOf(take).map(({ track, title, high }) => [
    title,
    track ? sub(track) : "",
    high,
  ]);
  const key = JSON.stringify(rows);
  if (labels.dataset.shown === key) return;
  labels.dataset.shown = key;
  labels.replaceChildren(
    ...rows.map(([title, small, high]) => {
      const row = document.createElement("div");
      row.style.height = `${high}px`;
      const strong = document.createElement("strong");
      strong.textContent = String(title);
      const quiet = document.createElement("small");
      quiet.textContent = String(small);
      row.append(strong, ...(small ? [quiet] : []));
      return row;
    }),
  );
}

const WORDS_OF_KINDS = { microphone: "voice", "system-audio": "plays" };

/** What is said of a track below its name. @param {import("./take_data.js").Track} track */
function sub(track) {
  if (track.error) return "can't be read";
  const found = [];
  if (track.gaps.length) found.push(`${track.gaps.length} gap${track.gaps.length > 1 ? "s" : ""}`);
  if (track.clips.length) found.push(`clips at ${track.clips.length} places`);
  if (track.shift_s) {
    const ms = Math.abs(track.shift_s * 1000).toFixed(1);
    found.push(`${track.shift_s > 0 ? "+" : "−"}${ms} ms`);
  }
  const kind = /** @type {Record<string, string>} */ (WORDS_OF_KINDS)[track.kind];
  return found.join(" · ") || (kind ?? track.kind.replace("-", " "));
}
