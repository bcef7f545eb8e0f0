/**
 * Pieces of a cut list on paper: every piece as long as what it is of, whether it is taken out or
 * runs faster, one after the other. All times in s.
 * @typedef {{id: string, take: string, card: string, file: boolean, from_s: number, until_s: number, out: boolean,
 *   speed: number, laid_s: number, words: string, fades_ms: [number, number], at_s: number, end_s: number}} Piece
 *   `at_s`, `end_s` in the program, where `laid_s` of its take is seen first, at `speed`
 * @typedef {Piece & {paper: number, paper_end: number}} Row
 */

/** What is out takes no paper where it is `folded`. @param {Piece[]} pieces @param {boolean} [folded] @returns {Row[]} */
export function papered(pieces, folded = false) {
  let now = 0;
  return pieces.map((piece) => {
    const paper = now;
    now += folded && piece.out ? 0 : piece.until_s - piece.from_s;
    return { ...piece, paper, paper_end: now };
  });
}

/** Whether a piece takes no paper. @param {Row} row */
export const isFolded = (row) => row.paper_end === row.paper;

/** The piece at a place of the paper; the last one at its end. @param {Row[]} rows @param {number} paper */
export function rowAt(rows, paper) {
  let low = 0;
  let high = rows.length - 1;
  while (low < high) {
    const middle = (low + high + 1) >> 1;
    if (rows[middle].paper <= paper + 1e-9) low = middle;
    else high = middle - 1;
  }
  return /** @type {Row | undefined} */ (rows[low]);
}

/** The time of its take. @param {Row} row @param {number} paper */
export const inTake = (row, paper) =>
  row.from_s + Math.min(row.paper_end - row.paper, Math.max(0, paper - row.paper));

/** The program time of a place on paper; of what is taken out, where it would be. @param {Row[]} rows @param {number} paper */
export function toProgram(rows, paper) {
  const row = rowAt(rows, paper);
  if (!row) return 0;
  if (row.out) return row.at_s;
  const at = row.at_s + (inTake(row, paper) - row.laid_s) / row.speed;
  return Math.min(row.end_s, Math.max(row.at_s, at));
}

/** Where on paper a program time lies. @param {Row[]} rows @param {number} at */
export function toPaper(rows, at) {
  const shown = rows.filter((row) => !row.out && row.end_s > row.at_s);
  const found = shown.find((row) => at < row.end_s - 1e-9) ?? shown[shown.length - 1];
  if (!found) return 0;
  return onto(found, found.laid_s + Math.max(0, at - found.at_s) * found.speed);
}

/**
 * Where a stretch of a take lies on paper. @param {Row[]} rows @param {string} take
 * @param {number} from @param {number} until
 */
export function onPaper(rows, take, from, until) {
  /** @type {[number, number][]} */
  const found = [];
  for (const row of rows) {
    if (row.take !== take || isFolded(row)) continue;
    const [a, b] = [Math.max(row.from_s, from), Math.min(row.until_s, until)];
    if (a < b) found.push([row.paper + a - row.from_s, row.paper + b - row.from_s]);
  }
  return found;
}

/** Where a time of a take lies on paper. @param {Row[]} rows @param {string} take @param {number} at */
export function placesOf(rows, take, at) {
  return rows
    .filter((row) => row.take === take && !isFolded(row) && row.from_s <= at && at < row.until_s)
    .map((row) => row.paper + at - row.from_s);
}

/**
 * A stretch of paper on other paper, if the pieces that it begins and ends in are there still.
 * @param {Row[]} before @param {Row[]} now @param {[number, number]} stretch
 * @returns {[number, number] | null}
 */
export function moved(before, now, [from, until]) {
  const ends = [rowAt(before, from), rowAt(before, Math.max(from, until - 1e-6))];
  const found = ends.map((row) => now.find((other) => other.id === row?.id));
  const [a, b] = ends.map((row, n) => {
    const other = found[n];
    if (!row || !other || other.take !== row.take) return Number.NaN;
    return onto(other, inTake(row, n ? until : from));
  });
  return a < b ? [a, b] : null;
}

/** A time of its take on a piece's paper, within it. @param {Row} row @param {number} at */
const onto = (row, at) => Math.min(row.paper_end, row.paper + Math.max(0, at - row.from_s));
