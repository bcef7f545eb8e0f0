import { growth } from "./levels.js";
import { toRecord } from "./take_time.js";

/**
 * What lines are drawn from, of a take or of pieces of several; places in s of the whole.
 * @typedef {{part: import("./levels.js").Part, step_s: number, record: number, grown: number}} Wave
 * @typedef {{quiet: [number, number][], gaps: [number, number][], clips: number[], breaks: number[],
 *   changed: {from: number, until: number, out: boolean, words: string}[], seams: number[],
 *   folds: number[], fades: {from: number, until: number, into: boolean}[],
 *   cards: {from: number, until: number, words: string}[]}} Items
 * @typedef {Items & {length_s: number, steps: import("./take_lines.js").Word[],
 *   scenes: import("./take_lines.js").Word[], marks: import("./take_lines.js").Word[],
 *   ink: (px: number) => (at: number) => Wave | null,
 *   inkKey: (from: number, until: number) => unknown}} Paper `inkKey` is another one where ink is
 */

/** What lies on paper besides its ink: places, or stretches. @type {(keyof Items)[]} */
const ITEMS = ["quiet", "gaps", "clips", "breaks", "changed", "seams", "folds", "fades", "cards"];

/**
 * What of a paper's items touches a stretch of it.
 * @param {Items} paper
 * @returns {Items}
 */
export function itemsOn(paper, from = 0, until = Number.POSITIVE_INFINITY) {
  const touches = (/** @type {any} */ one) => {
    const [a, b] = typeof one === "number" ? [one, one] : [one.from ?? one[0], one.until ?? one[1]];
    return a <= until && b >= from;
  };
  const found = ITEMS.map((kind) => [kind, /** @type {any[]} */ (paper[kind]).filter(touches)]);
  return Object.fromEntries(found);
}

/**
 * The ink of a take: its voice at a place, with `px` s to a px, grown to fill a line.
 * @param {import("../components/take_data.js").TakeData} data @param {number} px
 * @returns {(at: number) => Wave | null}
 */
export function inkOf(data, px) {
  const take = data.now;
  const track = take?.tracks.find((one) => one.name === take.ink);
  if (!take || !track) return () => null;
  const probe = data.waveform(track, px, 0);
  const grown = probe ? growth(probe.part) : 1;
  return (at) => {
    const record = toRecord(take.pieces, at) - track.shift_s;
    const wave = data.waveform(track, px, record);
    return wave && { ...wave, record, grown };
  };
}

/** A take by itself. @param {import("../components/take_data.js").TakeData} data @returns {Paper | null} */
export function paperOfTake(data) {
  const take = data.now;
  if (!take) return null;
  const track = take.tracks.find((one) => one.name === take.ink);
  return {
    length_s: take.length_s,
    steps: take.steps,
    scenes: take.scenes,
    marks: take.marks.map(({ id, at_s, text }) => ({ at_s, words: text, cue: id })),
    quiet: take.quiet,
    gaps: track?.gaps ?? [],
    clips: (track?.clips ?? []).map(([at]) => at),
    // Where a pause was closed.
    breaks: take.pieces.slice(1).map(([at]) => at),
    changed: [],
    seams: [],
    folds: [],
    fades: [],
    cards: [],
    ink: (px) => inkOf(data, px),
    inkKey: () => data.waves,
  };
}
