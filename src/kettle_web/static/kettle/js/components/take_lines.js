import { seen } from "../lib/levels.js";
import { SNAP_PX, snapped, snapsOf } from "../lib/snapping.js";
import { ruleTime } from "../lib/take_lanes.js";
import { layOut, partsOf, placeOf, timeAt } from "../lib/take_lines.js";
import { colours, drawnWith, hole, penOf, sized } from "./canvas.js";
import { drawCards, drawChanged, drawFades, drawSeams } from "./cut_drawing.js";
import { lineWords } from "./line_words.js";
import { goByKey, isTaken, pointAt } from "./pointing.js";

/** @typedef {import("../lib/take_paper.js").Paper} Paper */

const MARGIN = 44;

/**
 * The whole of something in lines: the voice is the ink. Click or arrow keys go somewhere, dragging
 * or arrow keys with Shift mark a stretch; scenes and marks are dragged to other times.
 * @param {HTMLElement} root @param {() => Paper | null} paperNow what is drawn, null until it is there
 * @param {import("./take_view.js").TakeView} view
 * @param {(at: number) => number} timeHere what stands before a line that begins at a place
 */
export function mount(root, paperNow, view, timeHere = (at) => at) {
  const stop = new AbortController();
  const on = { signal: stop.signal };
  const canvas = /** @type {HTMLCanvasElement} */ (root.querySelector("canvas"));
  // The play head moves over what was drawn once: an hour of lines is drawn in a tenth of a second.
  const over = document.createElement("canvas");
  over.className = "lines-over";
  canvas.after(over);
  /** Where something of the view stands now. @type {[number, number, number, number][]} */
  let touched = [];
  /** @type {import("../lib/take_lines.js").Layout | null} */
  let layout = null;
  let width = 0;

  const draw = () => {
    const paper = paperNow();
    if (!paper) return;
    width = Math.max(100, root.clientWidth - MARGIN);
    const speeds = paper.changed.filter((one) => one.words);
    const above = speeds.map((one) => ({ at_s: one.from, words: one.words }));
    layout = layOut(paper.length_s, paper.steps, [...paper.scenes, ...paper.marks, ...above]);
    const pen = sized(canvas, root.clientWidth, layout.height);
    drawLines(pen, paper, layout);
    drawCards(pen, paper, layout, MARGIN, width);
    drawChanged(pen, paper, layout, MARGIN, width);
    drawFades(pen, paper, layout, MARGIN, width);
    drawSeams(pen, paper, layout, MARGIN, width);
    words.lay(paper, layout, above, width);
    root.setAttribute("aria-valuemax", paper.length_s.toFixed(3));
    drawView();
  };

  const drawView = () => {
    if (!layout) return;
    const pen = penOf(over, root.clientWidth, layout.height);
    for (const place of touched) pen.clearRect(...place);
    touched = [];
    drawOver(pen, layout);
    root.setAttribute("aria-valuenow", view.at.toFixed(3));
    root.setAttribute("aria-valuetext", ruleTime(view.at, 0.001));
  };

  /** @param {CanvasRenderingContext2D} pen @param {Paper} paper @param {import("../lib/take_lines.js").Layout} all */
  function drawLines(pen, paper, all) {
    const [ink, pale, ochre, brick, ground, rule, graphite] = colours(
      "ink",
      "sand-light",
      "ochre",
      "brick",
      "paper",
      "rule",
      "graphite",
    );
    const px = all.length / width;
    pen.font = '11px "JetBrains Mono", monospace';
    for (const line of all.lines) {
      pen.fillStyle = graphite;
      pen.fillText(ruleTime(timeHere(line.from), 1), 0, line.base + all.ink / 2 + 4);
    }
    pen.fillStyle = pale;
    for (const [a, b] of paper.quiet)
      for (const part of partsOf(all, a, b))
        pen.fillRect(xOf(part.from), part.line.base, (part.until - part.from) * width, all.ink);
    const wave = paper.ink(px);
    for (const line of all.lines) {
      const middle = line.base + all.ink / 2;
      pen.fillStyle = rule;
      pen.fillRect(MARGIN, middle, ((line.until - line.from) / all.length) * width, 1);
      waves(pen, wave, line, middle, px, ink);
    }
    for (const [a, b] of paper.gaps)
      for (const part of partsOf(all, a, b))
        hole(
          pen,
          xOf(part.from),
          part.line.base,
          Math.max(3, (part.until - part.from) * width),
          all.ink,
          ochre,
          ground,
        );
    pen.fillStyle = brick;
    for (const at of paper.clips) {
      const place = placeOf(all, at);
      pen.fillRect(xOf(place.x), place.line.base - 1, 2, 6);
    }
    for (const at of paper.breaks) {
      const place = placeOf(all, at);
      pen.fillStyle = ground;
      pen.fillRect(xOf(place.x) - 3, place.line.base - 1, 6, all.ink + 2);
      pen.fillStyle = graphite;
      pen.fillRect(xOf(place.x) - 3, place.line.base - 1, 1, all.ink + 2);
      pen.fillRect(xOf(place.x) + 2, place.line.base - 1, 1, all.ink + 2);
    }
  }

  /** @param {CanvasRenderingContext2D} pen @param {(at: number) => import("../lib/take_paper.js").Wave | null} wave @param {import("../lib/take_lines.js").Line} line @param {number} middle @param {number} px @param {string} ink */
  function waves(pen, wave, line, middle, px, ink) {
    const half = (layout?.ink ?? 0) / 2;
    pen.fillStyle = ink;
    for (let x = 0; x < Math.min(width, (line.until - line.from) / px); x += 1) {
      const here = wave(line.from + x * px);
      const found = here && seen(here.part, here.step_s, here.record, here.record + px);
      if (!found) continue;
      const [least, most] = found.map((one) => Math.max(-1, Math.min(1, one * here.grown)));
      pen.fillRect(MARGIN + x, middle - most * half, 1, Math.max(1, (most - least) * half));
    }
  }

  const xOf = (/** @type {number} */ share) => MARGIN + share * width;

  /** @param {CanvasRenderingContext2D} pen @param {import("../lib/take_lines.js").Layout} all */
  function drawOver(pen, all) {
    /** @param {number} x @param {number} y @param {number} wide @param {number} high */
    const touch = (x, y, wide, high) => {
      touched.push([x - 6, y - 6, wide + 12, high + 12]);
    };
    const [plum] = colours("plum");
    pen.fillStyle = plum;
    if (view.stretch) {
      for (const part of partsOf(all, ...view.stretch)) {
        const [x, wide] = [xOf(part.from), (part.until - part.from) * width];
        touch(x, part.line.base - 2, wide, all.ink + 6);
        pen.globalAlpha = 0.16;
        pen.fillRect(x, part.line.base - 2, wide, all.ink + 4);
        pen.globalAlpha = 1;
        pen.fillRect(x, part.line.base + all.ink + 1, wide, 2);
      }
    }
    // What the lanes show.
    pen.strokeStyle = plum;
    pen.globalAlpha = 0.5;
    const near = view.hasLanes ? view.near : { from: 0, length: 0 };
    for (const part of partsOf(all, near.from, near.from + near.length)) {
      const wide = Math.max(2, (part.until - part.from) * width - 1);
      pen.strokeRect(xOf(part.from) + 0.5, part.line.base - 1.5, wide, all.ink + 3);
      touch(xOf(part.from), part.line.base - 2, wide, all.ink + 4);
    }
    pen.globalAlpha = 1;
    const head = placeOf(all, view.at);
    touch(xOf(head.x) - 4, head.line.base - 8, 8, all.ink + 12);
    pen.fillRect(xOf(head.x) - 1, head.line.base - 4, 2, all.ink + 8);
    pen.beginPath();
    pen.arc(xOf(head.x), head.line.base - 4, 4, 0, 2 * Math.PI);
    pen.fill();
  }

  const timeOf = (/** @type {import("./line_words.js").Where} */ event) => {
    const box = canvas.getBoundingClientRect();
    const x = (event.clientX - box.left - MARGIN) / width;
    const paper = paperNow();
    if (!layout || !paper) return 0;
    const at = timeAt(layout, x, event.clientY - box.top, view.total);
    // With Alt the place is just where it is.
    return event.altKey ? at : snapped(at, snapsOf(paper), (SNAP_PX * layout.length) / width);
  };

  const words = lineWords(root, timeOf, view, stop.signal, MARGIN);
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
  return drawnWith(root, view, draw, stop, drawView);
}
