import { growth, seen } from "../lib/levels.js";
import { labels, marks, ruleTime } from "../lib/take_lanes.js";
import { toRecord } from "../lib/take_time.js";
import { colours, hole } from "./canvas.js";

export const RULE = 22;
export const PICTURE = 54;
export const SOUND = 50;
export const WORDS = 26;
/** What came late is at most so high, from so many ms on. */
const LATE_PX = 12;
const LATE_FULL_MS = 500;

/**
 * What is drawn on, and of what: `width` px show `view.near`.
 * @typedef {{pen: CanvasRenderingContext2D, width: number, take: import("./take_data.js").Overview,
 *   data: import("./take_data.js").TakeData, view: import("./take_view.js").TakeView}} Sheet
 * @typedef {import("./take_data.js").Track} Track
 */

const xOf = (/** @type {Sheet} */ { view, width }, /** @type {number} */ at) =>
  ((at - view.near.from) / view.near.length) * width;
const isSeen = (/** @type {Sheet} */ { view }, /** @type {number} */ a, /** @type {number} */ b) =>
  b > view.near.from && a < view.near.from + view.near.length;

/** The lanes of a take from top to bottom, and how high each is. @param {import("./take_data.js").Overview} take */
export function lanesOf(take) {
  const tracks = take.tracks.map((track) => ({
    track,
    title: track.title,
    high: track.is_picture ? PICTURE : SOUND,
  }));
  const events = take.happened.length ? [{ track: null, title: "Clicks, keys", high: WORDS }] : [];
  return [...tracks, ...events, { track: null, title: "Cues", high: WORDS }];
}

/** @param {Sheet} sheet @param {number} height */
export function drawLanes(sheet, height) {
  const { pen, take, width } = sheet;
  const [rule] = colours("rule");
  drawRule(sheet, height);
  let top = RULE;
  for (const { track, title, high } of lanesOf(take)) {
    if (track?.is_picture) drawPictures(sheet, track, top);
    else if (track) drawWaves(sheet, track, top);
    else if (title === "Cues") drawWords(sheet, take.cues, top);
    else drawHappened(sheet, top);
    top += high;
    pen.fillStyle = rule;
    pen.fillRect(0, top - 1, width, 1);
  }
  drawBreaks(sheet, height);
  drawHead(sheet, height);
}

/** @param {Sheet} sheet @param {number} height */
function drawRule(sheet, height) {
  const { pen, view, width } = sheet;
  const [graphite, rule] = colours("graphite", "rule");
  pen.font = '11px "JetBrains Mono", monospace';
  const { step, times } = marks(view.near, width);
  for (const at of times) {
    pen.fillStyle = rule;
    pen.fillRect(Math.round(xOf(sheet, at)), 0, 1, height);
    pen.fillStyle = graphite;
    pen.fillText(ruleTime(at, step), xOf(sheet, at) + 4, 12);
  }
}

/** @param {Sheet} sheet @param {Track} track @param {number} top */
function drawPictures(sheet, track, top) {
  const { pen, take, data, view, width } = sheet;
  const high = PICTURE - 6;
  if (track.sheets) {
    const wide = (track.sheets.width / track.sheets.height) * high;
    const seconds = ((wide + 2) / width) * view.near.length;
    // They stay where they are while one scrolls.
    for (let n = Math.floor(view.near.from / seconds); isSeen(sheet, n * seconds, 1e9); n += 1) {
      const at = n * seconds;
      if (at >= take.length_s || at > view.near.from + view.near.length) break;
      const found = data.picture(track, toRecord(take.pieces, at) - track.shift_s, seconds);
      if (!found) continue;
      const { sheet: from, left, top: down, width: across, height } = found;
      pen.drawImage(from, left, down, across, height, xOf(sheet, at), top + 2, wide, high);
    }
  }
  drawGaps(sheet, track, top + 2, high);
  drawLate(sheet, track, top + PICTURE - 2);
}

/** Seconds in which something came late, at the lane's foot, the higher the later. @param {Sheet} sheet @param {Track} track @param {number} foot */
function drawLate(sheet, track, foot) {
  const [ochre] = colours("ochre");
  sheet.pen.fillStyle = ochre;
  for (const [at, ms] of track.late) {
    if (!isSeen(sheet, at, at + 1)) continue;
    const high = Math.min(LATE_PX, 2 + (ms / LATE_FULL_MS) * LATE_PX);
    sheet.pen.fillRect(
      xOf(sheet, at),
      foot - high,
      Math.max(2, xOf(sheet, at + 1) - xOf(sheet, at) - 1),
      high,
    );
  }
}

/** @param {Sheet} sheet @param {Track} track @param {number} top @param {number} high */
function drawGaps(sheet, track, top, high) {
  const [ochre, paper] = colours("ochre", "paper");
  for (const [a, b] of track.gaps) {
    if (!isSeen(sheet, a, b)) continue;
    const wide = Math.max(3, xOf(sheet, b) - xOf(sheet, a));
    hole(sheet.pen, xOf(sheet, a), top, wide, high, ochre, paper);
  }
}

/** @param {Sheet} sheet @param {Track} track @param {number} top */
function drawWaves(sheet, track, top) {
  const { pen, take, data, view, width } = sheet;
  const [ink, pine, pale, rule] = colours("ink", "pine", "sand-light", "rule");
  const px = view.near.length / width;
  const middle = top + SOUND / 2;
  const half = SOUND / 2 - 5;
  const probe = data.waveform(track, 0.3, 0);
  const grown = probe ? growth(probe.part) : 1;
  pen.fillStyle = pale;
  for (const [a, b] of track.voice)
    if (isSeen(sheet, a, b))
      pen.fillRect(xOf(sheet, a), top + 1, xOf(sheet, b) - xOf(sheet, a), SOUND - 3);
  const end = Math.min(width, xOf(sheet, take.length_s));
  pen.fillStyle = rule;
  pen.fillRect(0, middle, end, 1);
  pen.fillStyle = track.voice.length || track.name === take.ink ? ink : pine;
  for (let x = 0; x < end; x += 1) {
    const record = toRecord(take.pieces, view.near.from + x * px) - track.shift_s;
    const wave = data.waveform(track, px, record);
    const found = wave && seen(wave.part, wave.step_s, record, record + px);
    if (!found) continue;
    const [least, most] = found.map((one) => Math.max(-1, Math.min(1, one * grown)));
    pen.fillRect(x, middle - most * half, 1, Math.max(1, (most - least) * half));
  }
  drawGaps(sheet, track, top + 2, SOUND - 6);
  drawClips(sheet, track, top);
  drawLate(sheet, track, top + SOUND - 2);
}

/** @param {Sheet} sheet @param {Track} track @param {number} top */
function drawClips(sheet, track, top) {
  const [brick] = colours("brick");
  sheet.pen.fillStyle = brick;
  for (const [at, samples] of track.clips) {
    if (!isSeen(sheet, at, at + 0.001)) continue;
    sheet.pen.fillRect(xOf(sheet, at), top + 1, 2, 8);
    if (sheet.view.near.length < 20)
      sheet.pen.fillText(`clips ${samples}`, xOf(sheet, at) + 5, top + 10);
  }
}

/**
 * Words at their times: of one moment in one, never over those that come after them.
 * @param {Sheet} sheet @param {{at_s: number, words: string}[]} cues rising @param {number} top
 */
function drawWords(sheet, cues, top) {
  const { pen, width } = sheet;
  const [ink] = colours("ink");
  pen.fillStyle = ink;
  pen.font = "12px Figtree, sans-serif";
  for (const [x, words, until] of labels(
    cues.map((cue) => [xOf(sheet, cue.at_s), cue.words]),
    width,
  )) {
    if (until < 0 || x > width) continue;
    pen.fillRect(x, top + 3, 1, WORDS - 7);
    pen.save();
    pen.beginPath();
    pen.rect(x, top, until - x - 4, WORDS);
    pen.clip();
    pen.fillText(words, x + 5, top + 16);
    pen.restore();
  }
}

/** @param {Sheet} sheet @param {number} top */
function drawHappened(sheet, top) {
  const { pen, take } = sheet;
  const [graphite] = colours("graphite");
  pen.strokeStyle = graphite;
  pen.fillStyle = graphite;
  pen.font = '11px "JetBrains Mono", monospace';
  for (const [at, what, words] of take.happened) {
    if (!isSeen(sheet, at, at + 0.001)) continue;
    if (what === "key") {
      pen.fillText(words, xOf(sheet, at) - 3, top + 16);
      continue;
    }
    pen.beginPath();
    pen.arc(xOf(sheet, at), top + WORDS / 2 - 1, 4, 0, 2 * Math.PI);
    pen.stroke();
  }
}

/** Where a pause was closed. @param {Sheet} sheet @param {number} height */
function drawBreaks(sheet, height) {
  const [graphite] = colours("graphite");
  sheet.pen.fillStyle = graphite;
  for (const [at] of sheet.take.pieces.slice(1))
    for (const by of [-2, 1])
      sheet.pen.fillRect(xOf(sheet, at) + by, RULE - 4, 1, height - RULE + 4);
}

/** @param {Sheet} sheet @param {number} height */
function drawHead(sheet, height) {
  const { pen, view } = sheet;
  const [plum] = colours("plum");
  pen.fillStyle = plum;
  if (view.stretch) {
    const [a, b] = view.stretch;
    pen.globalAlpha = 0.13;
    pen.fillRect(xOf(sheet, a), RULE - 4, xOf(sheet, b) - xOf(sheet, a), height - RULE + 4);
    pen.globalAlpha = 1;
  }
  pen.fillRect(xOf(sheet, view.at) - 1, 8, 2, height - 8);
  pen.beginPath();
  pen.arc(xOf(sheet, view.at), RULE - 8, 4, 0, 2 * Math.PI);
  pen.fill();
}
