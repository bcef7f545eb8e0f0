import { isFolded, onPaper, papered, placesOf, rowAt } from "../lib/cut_pieces.js";
import { inkOf } from "../lib/take_paper.js";
import { takeData } from "./take_data.js";

/**
 * @typedef {import("../lib/cut_pieces.js").Row} Row
 * @typedef {import("./take_data.js").TakeData} TakeData
 * @typedef {{revision: number, fps: number, length_s: number, plan: string,
 *   frame: [number, number] | null,
 *   pieces: import("../lib/cut_pieces.js").Piece[],
 *   takes: Record<string, {name: string, overview: string, page: string,
 *     scenes?: import("./take_data.js").Overview["scenes"], steps?: Said[]}>}} Cuts
 * @typedef {{at_s: number, words: string, cue?: string}} Said
 */

/**
 * What is drawn of an assembly: its pieces, and the takes that they are of.
 * @param {() => Cuts} read what the page says of its pieces now
 * @param {() => void} came called when there is more to draw
 */
export function cutData(read, came) {
  /** @type {Map<string, TakeData>} */
  const takes = new Map();
  /** @type {Cuts | null} */
  let known = null;
  /** @type {Row[]} */
  let rows = [];
  let folded = false;
  /** By the two values of the page; by those of the takes' surveys before they were changed. @type {Record<string, [number, number][]> | null} */
  let quiet = null;
  /** @type {import("../lib/take_paper.js").Paper | null} */
  let paper = null;

  const changed = () => {
    paper = null;
    came();
  };

  /** What is known of a take, with what this version tells otherwise. @param {string} take */
  const dataOf = (take) => {
    const now = takes.get(take)?.now ?? null;
    if (!now) return null;
    const { scenes = now.scenes, steps = now.steps } = known?.takes[take] ?? {};
    return { ...now, scenes, steps };
  };

  /** What stands at places of takes, where it lies on paper. @param {(take: import("./take_data.js").Overview) => Said[]} of */
  const words = (of) =>
    [...takes.keys()].flatMap((take) => {
      const now = dataOf(take);
      return (now ? of(now) : []).flatMap((one) =>
        placesOf(rows, take, one.at_s).map((at_s) => ({ ...one, at_s, take })),
      );
    });

  /** @param {(take: import("./take_data.js").Overview, name: string) => [number, number][]} of */
  const spans = (of) =>
    [...takes].flatMap(([take, data]) =>
      (data.now ? of(data.now, take) : []).flatMap(([a, b]) => onPaper(rows, take, a, b)),
    );

  /** A piece begins in a scene, whether or not it is changed to there. */
  const scenes = () => {
    const found = words((take) => take.scenes);
    for (const row of rows) {
      const scene = dataOf(row.take)?.scenes.findLast((one) => one.at_s <= row.from_s + 1e-6);
      const before = rows[rows.indexOf(row) - 1];
      const goesOn = before?.take === row.take && before.until_s === row.from_s;
      if (scene && !goesOn && scene.at_s < row.from_s)
        found.push({ at_s: row.paper, words: scene.words, take: row.take });
    }
    return found.sort((a, b) => a.at_s - b.at_s);
  };

  const inkNow = (/** @type {Map<string, TakeData>} */ all) => (/** @type {number} */ px) => {
    const inks = new Map([...all].map(([take, data]) => [take, inkOf(data, px)]));
    return (/** @type {number} */ at) => {
      const row = rowAt(rows, at);
      return (row && inks.get(row.take)?.(row.from_s + at - row.paper)) ?? null;
    };
  };

  /** @returns {import("../lib/take_paper.js").Paper} */
  const made = () => {
    const inkTrack = (/** @type {import("./take_data.js").Overview} */ take) =>
      take.tracks.find((one) => one.name === take.ink);
    return {
      length_s: rows.at(-1)?.paper_end ?? 0,
      steps: words((take) => take.steps).sort((a, b) => a.at_s - b.at_s),
      scenes: scenes(),
      marks: words((take) => take.marks.map(({ at_s, text }) => ({ at_s, words: text }))),
      quiet: spans((take, name) => quiet?.[name] ?? (quiet ? [] : take.quiet)),
      gaps: spans((take) => inkTrack(take)?.gaps ?? []),
      clips: words((take) =>
        (inkTrack(take)?.clips ?? []).map(([at_s]) => ({ at_s, words: "" })),
      ).map((one) => one.at_s),
      breaks: words((take) => take.pieces.slice(1).map(([at_s]) => ({ at_s, words: "" }))).map(
        (one) => one.at_s,
      ),
      changed: rows
        .filter((row) => (row.out || row.words) && !isFolded(row))
        .map((row) => ({
          from: row.paper,
          until: row.paper_end,
          out: row.out,
          words: row.out ? "" : row.words,
        })),
      seams: rows
        .filter((row, n) => {
          const before = rows[n - 1];
          return before && (before.take !== row.take || before.until_s !== row.from_s);
        })
        .map((row) => row.paper),
      folds: rows.filter(isFolded).map((row) => row.paper),
      fades: rows.filter((row) => !row.out).flatMap(fadesOf),
      cards: rows
        .filter((row) => row.card && !isFolded(row))
        .map((row) => ({ from: row.paper, until: row.paper_end, words: row.card })),
      ink: inkNow(takes),
      inkKey: (from, until) =>
        rows
          .filter((row) => row.paper < until && row.paper_end > from)
          .map((row) => [row.take, row.from_s - row.paper, takes.get(row.take)?.waves]),
    };
  };

  return {
    /** What is known now. */
    get now() {
      return known;
    },
    get rows() {
      return rows;
    },
    /** What lines are drawn from; null until it is there. */
    get paper() {
      paper ??= known ? made() : null;
      return paper;
    },
    get folded() {
      return folded;
    },
    /** What is out as a tick, or in its place again. @param {boolean} now */
    fold(now) {
      folded = now;
      rows = papered(known?.pieces ?? [], folded);
      changed();
    },
    /** The data of a take that is used. @param {string} take */
    take: (take) => takes.get(take) ?? null,
    /** What counts as quiet by now. @param {Record<string, [number, number][]>} found */
    setQuiet(found) {
      quiet = found;
      changed();
    },
    /** Pieces are there at once; takes that are new come later. */
    async load() {
      known = read();
      rows = papered(known.pieces, folded);
      for (const [take, { overview }] of Object.entries(known.takes))
        if (!takes.has(take)) takes.set(take, takeData(overview, changed));
      changed();
      await Promise.all([...takes.values()].filter((one) => !one.now).map((one) => one.load()));
    },
    /** The takes may be others by now. */
    async loadTakes() {
      await Promise.all([...takes.values()].map((one) => one.load()));
    },
    destroy() {
      for (const one of takes.values()) one.destroy();
    },
  };
}

/** Where a piece comes out of black and goes into it, on paper. @param {Row} row */
function fadesOf(row) {
  const most = (row.paper_end - row.paper) / 2;
  const [into, out] = row.fades_ms.map((ms) => Math.min(most, (ms / 1000) * row.speed));
  const found = [];
  if (into) found.push({ from: row.paper, until: row.paper + into, into: true });
  if (out) found.push({ from: row.paper_end - out, until: row.paper_end, into: false });
  return found;
}

/** @typedef {ReturnType<typeof cutData>} CutData */
