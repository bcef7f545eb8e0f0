/**
 * Take time, record time and the times of files; all in s. A take's pieces say from which record
 * time on it runs at which take time; between them pauses are closed.
 * @typedef {[number, number][]} Pieces (take s, record s) of each piece's beginning, rising
 * @typedef {[number, number, number][]} Knots (record s, s of the file, rate) of straight parts
 */

/** @param {number[][]} rows @param {number} column @param {number} value the row that holds it */
function rowOf(rows, column, value) {
  let low = 0;
  let high = rows.length - 1;
  while (low < high) {
    const middle = (low + high + 1) >> 1;
    if (rows[middle][column] <= value) low = middle;
    else high = middle - 1;
  }
  return rows[low];
}

/** @param {Pieces} pieces @param {number} at */
export function toRecord(pieces, at) {
  if (!pieces.length) return at;
  const [start, from] = rowOf(pieces, 0, at);
  return from + at - start;
}

/** Take time of a record time; what lies in a pause is where the pause was closed. */
export function toTake(/** @type {Pieces} */ pieces, /** @type {number} */ record) {
  if (!pieces.length) return record;
  const row = rowOf(pieces, 1, record);
  const next = pieces[pieces.indexOf(/** @type {[number, number]} */ (row)) + 1];
  const at = row[0] + Math.max(0, record - row[1]);
  return next ? Math.min(at, next[0]) : at;
}

/** @param {Knots} knots @param {number} record @param {number} shift by which the track is later */
export function toFile(knots, record, shift) {
  const asked = record - shift;
  const [from, file, rate] = rowOf(knots, 0, asked);
  return Math.max(0, file + (asked - from) * rate);
}

/** @param {Knots} knots @param {number} file @param {number} shift */
export function fromFile(knots, file, shift) {
  const [from, start, rate] = rowOf(knots, 1, file);
  return from + (file - start) / rate + shift;
}
