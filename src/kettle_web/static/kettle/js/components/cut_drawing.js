import { partsOf, placeOf } from "../lib/take_lines.js";
import { colours } from "./canvas.js";

/**
 * @typedef {import("../lib/take_paper.js").Paper} Paper
 * @typedef {import("../lib/take_lines.js").Layout} Layout
 */

const HATCH_PX = 7;
const CLOSE_PX = 5;
const FOLD_PX = 5;

/**
 * Cards: what they say, on their own ground.
 * @param {CanvasRenderingContext2D} pen @param {Paper} paper @param {Layout} all
 * @param {number} margin @param {number} width px
 */
export function drawCards(pen, paper, all, margin, width) {
  const [ink, ground] = colours("ink", "paper");
  for (const card of paper.cards) {
    partsOf(all, card.from, card.until).forEach((part, number) => {
      const x = margin + part.from * width;
      const wide = (part.until - part.from) * width;
      pen.save();
      pen.beginPath();
      pen.roundRect(x, part.line.base, wide, all.ink, 3);
      pen.clip();
      pen.fillStyle = ink;
      pen.fill();
      pen.fillStyle = ground;
      pen.font = '12px "Figtree", sans-serif';
      if (!number) pen.fillText(card.words, x + 8, part.line.base + all.ink / 2 + 4);
      pen.restore();
    });
  }
}

/**
 * What was taken out stays in its place, hatched and struck through; what runs at another speed
 * is closely hatched.
 * @param {CanvasRenderingContext2D} pen @param {Paper} paper @param {Layout} all
 * @param {number} margin @param {number} width px
 */
export function drawChanged(pen, paper, all, margin, width) {
  const [ground, sand, brick, pine, wash] = colours(
    "paper",
    "sand-dark",
    "brick",
    "pine",
    "pine-wash",
  );
  for (const one of paper.changed) {
    for (const part of partsOf(all, one.from, one.until)) {
      const x = margin + part.from * width;
      const wide = Math.max(1, (part.until - part.from) * width);
      const { base } = part.line;
      pen.save();
      pen.beginPath();
      pen.rect(x, base - 2, wide, all.ink + 4);
      pen.clip();
      pen.fillStyle = one.out ? ground : wash;
      pen.globalAlpha = one.out ? 0.72 : 1;
      pen.fillRect(x, base - 2, wide, all.ink + 4);
      pen.globalAlpha = 1;
      if (one.out) hatch(pen, x, base - 2, wide, all.ink + 4, sand);
      else combed(pen, x, base + 4, wide, all.ink - 8, pine);
      pen.restore();
      if (one.out) {
        pen.fillStyle = brick;
        pen.fillRect(x, base + all.ink / 2 - 1, wide, 2);
      }
    }
  }
}

/**
 * Pieces that come out of black and go into it: a wedge of black that gives way.
 * @param {CanvasRenderingContext2D} pen @param {Paper} paper @param {Layout} all
 * @param {number} margin @param {number} width px
 */
export function drawFades(pen, paper, all, margin, width) {
  const [ink] = colours("ink");
  pen.fillStyle = ink;
  pen.globalAlpha = 0.55;
  for (const fade of paper.fades) {
    const length = fade.until - fade.from;
    let done = 0;
    for (const part of partsOf(all, fade.from, fade.until)) {
      const wide = (part.until - part.from) * width;
      const share = Math.min(1, done + ((part.until - part.from) * all.length) / length);
      const [a, b] = fade.into ? [1 - done, 1 - share] : [done, share];
      const x = margin + part.from * width;
      const { base } = part.line;
      pen.beginPath();
      pen.moveTo(x, base);
      pen.lineTo(x, base + a * all.ink);
      pen.lineTo(x + wide, base + b * all.ink);
      pen.lineTo(x + wide, base);
      pen.fill();
      done = share;
    }
  }
  pen.globalAlpha = 1;
}

/** @param {CanvasRenderingContext2D} pen @param {number} x @param {number} y @param {number} wide @param {number} high @param {string} colour */
function hatch(pen, x, y, wide, high, colour) {
  pen.strokeStyle = colour;
  pen.lineWidth = 2;
  pen.beginPath();
  // Hatching goes on from line to line where a stretch does.
  const first = Math.floor((x - high) / HATCH_PX) * HATCH_PX;
  for (let at = first; at < x + wide + high; at += HATCH_PX) {
    pen.moveTo(at, y + high);
    pen.lineTo(at + high, y);
  }
  pen.stroke();
  pen.lineWidth = 1;
}

/** @param {CanvasRenderingContext2D} pen @param {number} x @param {number} y @param {number} wide @param {number} high @param {string} colour */
function combed(pen, x, y, wide, high, colour) {
  pen.fillStyle = colour;
  for (let at = Math.ceil(x / CLOSE_PX) * CLOSE_PX; at < x + wide - 1; at += CLOSE_PX)
    pen.fillRect(at, y, 1.5, high);
}

/**
 * Where one piece ends and another one begins that does not go on with it, and what is folded away.
 * @param {CanvasRenderingContext2D} pen @param {Paper} paper @param {Layout} all
 * @param {number} margin @param {number} width px
 */
export function drawSeams(pen, paper, all, margin, width) {
  const [copper, brick] = colours("copper", "brick");
  pen.fillStyle = brick;
  for (const at of paper.folds) {
    const place = placeOf(all, at);
    const x = margin + place.x * width;
    pen.beginPath();
    pen.moveTo(x - FOLD_PX, place.line.base - 4);
    pen.lineTo(x + FOLD_PX, place.line.base - 4);
    pen.lineTo(x, place.line.base + FOLD_PX);
    pen.fill();
    pen.fillRect(x - 0.5, place.line.base - 3, 1, all.ink + 6);
  }
  pen.fillStyle = copper;
  for (const at of paper.seams) {
    const place = placeOf(all, at);
    pen.fillRect(margin + place.x * width - 0.5, place.line.base - 3, 1, all.ink + 6);
  }
}
