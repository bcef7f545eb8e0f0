import { growth, seen } from "../lib/levels.js";
import { ruleTime } from "../lib/take_lanes.js";
import { layOut, partsOf, placeOf, timeAt } from "../lib/take_lines.js";
import { toRecord } from "../lib/take_time.js";
import { colours, drawnWith, hole, sized } from "./canvas.js";
import { goByKey, isTaken, pointAt } from "./pointing.js";

const MARGIN = 44;

/**
 * The whole take in lines: the voice is the ink. Click or arrow keys go somewhere, dragging or
 * arrow keys with Shift mark a stretch.
 * @param {HTMLElement} root @param {import("./take_data.js").TakeData} data
 * @param {import("./take_view.js").TakeView} view
 */
export function mount(root, data, view) {
  const stop = new AbortController();
  const on = { signal: stop.signal };
  const canvas = /** @type {HTMLCanvasElement} */ (root.querySelector("canvas"));
  const words = /** @type {HTMLElement} */ (root.querySelector("[data-line-words]"));
  /** @type {import("../lib/take_lines.js").Layout | null} */
  let layout = null;
  let shown = "";
  let width = 0;

  const draw = () => {
    const take = data.now;
    if (!take) return;
    width = Math.max(100, root.clientWidth - MARGIN);
    const tabs = [...take.scenes, ...take.marks.map((m) => ({ at_s: m.at_s, words: m.text }))];
    layout = layOut(take.length_s, take.steps, tabs);
    const pen = sized(canvas, root.clientWidth, layout.height);
    drawLines(pen, take, layout);
    drawView(pen, layout);
    lay(take, layout);
    root.setAttribute("aria-valuemax", take.length_s.toFixed(3));
    root.setAttribute("aria-valuenow", view.at.toFixed(3));
    root.setAttribute("aria-valuetext", ruleTime(view.at, 0.001));
  };

  /** @param {CanvasRenderingContext2D} pen @param {import("./take_data.js").Overview} take @param {import("../lib/take_lines.js").Layout} all */
  function drawLines(pen, take, all) {
    const [ink, pale, ochre, brick, paper, rule, graphite] = colours(
      "ink",
      "sand-light",
      "ochre",
      "brick",
      "paper",
      "rule",
      "graphite",
    );
    const track = take.tracks.find((one) => one.name === take.ink);
    const px = all.length / width;
    pen.font = '11px "JetBrains Mono", monospace';
    for (const line of all.lines) {
      pen.fillStyle = graphite;
      pen.fillText(ruleTime(line.from, 1), 0, line.base + all.ink / 2 + 4);
    }
    pen.fillStyle = pale;
    for (const [a, b] of take.quiet)
      for (const part of partsOf(all, a, b))
        pen.fillRect(xOf(part.from), part.line.base, (part.until - part.from) * width, all.ink);
    const probe = track && data.waveform(track, px, 0);
    const grown = probe ? growth(probe.part) : 1;
    for (const line of all.lines) {
      const middle = line.base + all.ink / 2;
      pen.fillStyle = rule;
      pen.fillRect(MARGIN, middle, ((line.until - line.from) / all.length) * width, 1);
      if (track) waves(pen, take, track, line, middle, px, grown, ink);
    }
    for (const [a, b] of track?.gaps ?? [])
      for (const part of partsOf(all, a, b))
        hole(
          pen,
          xOf(part.from),
          part.line.base,
          Math.max(3, (part.until - part.from) * width),
          all.ink,
          ochre,
          paper,
        );
    pen.fillStyle = brick;
    for (const [at] of track?.clips ?? []) {
      const place = placeOf(all, at);
      pen.fillRect(xOf(place.x), place.line.base - 1, 2, 6);
    }
    // Where a pause was closed: a thin break.
    for (const [at] of take.pieces.slice(1)) {
      const place = placeOf(all, at);
      pen.fillStyle = paper;
      pen.fillRect(xOf(place.x) - 3, place.line.base - 1, 6, all.ink + 2);
      pen.fillStyle = graphite;
      pen.fillRect(xOf(place.x) - 3, place.line.base - 1, 1, all.ink + 2);
      pen.fillRect(xOf(place.x) + 2, place.line.base - 1, 1, all.ink + 2);
    }
  }

  /** @param {CanvasRenderingContext2D} pen @param {import("./take_data.js").Overview} take @param {import("./take_data.js").Track} track @param {import("../lib/take_lines.js").Line} line @param {number} middle @param {number} px @param {number} grown @param {string} ink */
  function waves(pen, take, track, line, middle, px, grown, ink) {
    const half = (layout?.ink ?? 0) / 2;
    pen.fillStyle = ink;
    for (let x = 0; x < Math.min(width, (line.until - line.from) / px); x += 1) {
      const record = toRecord(take.pieces, line.from + x * px) - track.shift_s;
      const wave = data.waveform(track, px, record);
      const found = wave && seen(wave.part, wave.step_s, record, record + px);
      if (!found) continue;
      const [least, most] = found.map((one) => Math.max(-1, Math.min(1, one * grown)));
      pen.fillRect(MARGIN + x, middle - most * half, 1, Math.max(1, (most - least) * half));
    }
  }

  const xOf = (/** @type {number} */ share) => MARGIN + share * width;

  /** @param {CanvasRenderingContext2D} pen @param {import("../lib/take_lines.js").Layout} all */
  function drawView(pen, all) {
    const [plum] = colours("plum");
    pen.fillStyle = plum;
    if (view.stretch) {
      for (const part of partsOf(all, ...view.stretch)) {
        const [x, wide] = [xOf(part.from), (part.until - part.from) * width];
        pen.globalAlpha = 0.16;
        pen.fillRect(x, part.line.base - 2, wide, all.ink + 4);
        pen.globalAlpha = 1;
        pen.fillRect(x, part.line.base + all.ink + 1, wide, 2);
      }
    }
    // What the lanes show.
    pen.strokeStyle = plum;
    pen.globalAlpha = 0.5;
    for (const part of partsOf(all, view.near.from, view.near.from + view.near.length))
      pen.strokeRect(
        xOf(part.from) + 0.5,
        part.line.base - 1.5,
        Math.max(2, (part.until - part.from) * width - 1),
        all.ink + 3,
      );
    pen.globalAlpha = 1;
    const head = placeOf(all, view.at);
    pen.fillRect(xOf(head.x) - 1, head.line.base - 4, 2, all.ink + 8);
    pen.beginPath();
    pen.arc(xOf(head.x), head.line.base - 4, 4, 0, 2 * Math.PI);
    pen.fill();
  }

  /** Words stand above the ink: steps, scenes, marks. @param {import("./take_data.js").Overview} take @param {import("../lib/take_lines.js").Layout} all */
  function lay(take, all) {
    const key = JSON.stringify([take.scenes, take.marks, take.steps, all.height, width]);
    if (key === shown) return;
    shown = key;
    /** @type {HTMLElement[]} */
    const made = [];
    const put = (
      /** @type {string} */ kind,
      /** @type {number} */ at,
      /** @type {string} */ text,
      /** @type {number} */ top,
    ) => {
      const place = placeOf(all, at);
      const word = document.createElement("span");
      word.className = `line-word line-${kind}`;
      word.textContent = text;
      word.style.left = `${kind === "step" ? MARGIN : xOf(place.x)}px`;
      word.style.top = `${top}px`;
      made.push(word);
    };
    for (const line of all.lines)
      line.heads.forEach((head, n) => {
        if (!n) put("step", head.at_s, line.heads.map((h) => h.words).join(" · "), line.top);
      });
    for (const scene of take.scenes)
      put("scene", scene.at_s, scene.words, placeOf(all, scene.at_s).line.base - 18);
    for (const mark of take.marks)
      put("mark", mark.at_s, mark.text, placeOf(all, mark.at_s).line.base - 18);
    words.replaceChildren(...made);
  }

  const timeOf = (/** @type {PointerEvent} */ event) => {
    const box = canvas.getBoundingClientRect();
    const x = (event.clientX - box.left - MARGIN) / width;
    return layout ? timeAt(layout, x, event.clientY - box.top, view.total) : 0;
  };

  pointAt(root, root, timeOf, view, stop.signal);
  root.addEventListener(
    "pointermove",
    (event) => {
      root.title = ruleTime(timeOf(event), 0.1);
    },
    on,
  );
  root.addEventListener(
    "keydown",
    (event) => {
      const line = layout?.length ?? 30;
      const to = {
        ArrowLeft: view.at - 1,
        ArrowRight: view.at + 1,
        ArrowUp: view.at - line,
        ArrowDown: view.at + line,
        Home: 0,
        End: view.total,
      }[event.key];
      if (to !== undefined && !isTaken(event)) goByKey(event, view, to);
    },
    on,
  );
  return drawnWith(root, view, draw, stop);
}
