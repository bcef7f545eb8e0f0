/**
 * Where a take's lines stand: time runs like writing, each line the same stretch of it.
 * @typedef {{at_s: number, words: string, cue?: string, take?: string}} Word
 * @typedef {{from: number, until: number, top: number, base: number, heads: Word[]}} Line
 * @typedef {{length: number, lines: Line[], height: number, ink: number}} Layout
 */

const LENGTHS_S = [15, 30, 60];
/** So many lines are seen at once; what is longer has more of them. */
const AT_ONCE = 10;
const MANY = 20;
const FEW = 4;
const LARGE_INK = 34;
const INK = 26;
const SMALL_INK = 17;
const GAP = 8;
const TAB = 17;
const HEAD = 19;

/** How long a line is, for the whole to be seen at once. @param {number} total s */
export function lineLength(total) {
  return LENGTHS_S.find((one) => total / one <= AT_ONCE) ?? LENGTHS_S[LENGTHS_S.length - 1];
}

/**
 * @param {number} total s @param {Word[]} steps headings @param {Word[]} tabs what stands on lines
 * @param {number} [length] of a line, s
 * @returns {Layout} tops in px; `base` is where a line's ink begins
 */
export function layOut(total, steps, tabs, length = lineLength(total)) {
  const count = Math.max(1, Math.ceil(total / length - 1e-9));
  const ink = count > MANY ? SMALL_INK : count > FEW ? INK : LARGE_INK;
  /** @type {Line[]} */
  const lines = [];
  let top = 0;
  for (let n = 0; n < count; n += 1) {
    const from = n * length;
    const within = (/** @type {Word} */ word) =>
      word.at_s >= from && (word.at_s < from + length || n === count - 1);
    const heads = steps.filter(within);
    const above = (heads.length ? HEAD : 0) + (tabs.some(within) ? TAB : 0);
    lines.push({ from, until: Math.min(total, from + length), top, base: top + above, heads });
    top += above + ink + GAP;
  }
  return { length, lines, height: top, ink };
}

/** The time at a place. @param {Layout} layout @param {number} x share of the width @param {number} y px @param {number} total */
export function timeAt(layout, x, y, total) {
  const found = layout.lines.findLast((line) => line.top <= y) ?? layout.lines[0];
  return Math.min(total, Math.max(0, found.from + Math.min(1, Math.max(0, x)) * layout.length));
}

/** The line of a time and how far along it lies. @param {Layout} layout @param {number} at */
export function placeOf(layout, at) {
  const number = Math.min(layout.lines.length - 1, Math.max(0, Math.floor(at / layout.length)));
  const line = layout.lines[number];
  return { line, number, x: (at - line.from) / layout.length };
}

/**
 * A stretch in the parts that lie on lines. @param {Layout} layout @param {number} a @param {number} b
 * @returns {{line: Line, from: number, until: number}[]} as shares of a line
 */
export function partsOf(layout, a, b) {
  const parts = [];
  for (let n = placeOf(layout, a).number; n < layout.lines.length; n += 1) {
    const line = layout.lines[n];
    const from = Math.max(a, line.from);
    const until = Math.min(b, line.from + layout.length);
    if (from >= b) break;
    if (until > from)
      parts.push({
        line,
        from: (from - line.from) / layout.length,
        until: (until - line.from) / layout.length,
      });
  }
  return parts;
}

const BETWEEN_PX = 3;
const MOST_ROWS = 3;

/**
 * In which row each word stands, so that none is drawn over another: the first one where there is
 * room, from left to right; the last one where there is none.
 * @param {{line: string, left: number, right: number}[]} words @returns {number[]} as `words`
 */
export function rowsOf(words) {
  /** @type {Map<string, number[]>} where each row of a line ends */
  const ends = new Map();
  const rows = words.map(() => 0);
  const order = words.map((_, n) => n).sort((a, b) => words[a].left - words[b].left);
  for (const n of order) {
    const { line, left, right } = words[n];
    const known = ends.get(line) ?? [];
    const found = known.findIndex((end) => end + BETWEEN_PX <= left);
    const row = found >= 0 ? found : Math.min(known.length, MOST_ROWS - 1);
    known[row] = Math.max(known[row] ?? 0, right);
    ends.set(line, known);
    rows[n] = row;
  }
  return rows;
}
