import assert from "node:assert/strict";
import test from "node:test";
import {
  inTake,
  moved,
  onPaper,
  papered,
  placesOf,
  rowAt,
  toPaper,
  toProgram,
} from "../../src/kettle_web/static/kettle/js/lib/cut_pieces.js";

const piece = (id, take, from_s, until_s, at_s, end_s, more = {}) => ({
  ...{ id, take, from_s, until_s, at_s, end_s, out: false, speed: 1, laid_s: from_s, words: "" },
  ...more,
});
// 4 s, 2 s out, 4 s at 2 ×, 3 s of another take.
const rows = papered([
  piece("p1", "a", 0, 4, 0, 4),
  piece("p2", "a", 4, 6, 4, 4, { out: true }),
  piece("p3", "a", 6, 10, 4, 6, { speed: 2 }),
  piece("p4", "b", 1, 4, 6, 9),
]);

test("every piece is as long on paper as what it is of", () => {
  assert.deepEqual(
    rows.map((row) => [row.paper, row.paper_end]),
    [
      [0, 4],
      [4, 6],
      [6, 10],
      [10, 13],
    ],
  );
  assert.equal(rowAt(rows, 4)?.id, "p2");
  assert.equal(rowAt(rows, 13)?.id, "p4");
  assert.equal(rowAt([], 0), undefined);
  assert.equal(inTake(rows[3], 11.5), 2.5);
});

test("from paper to the program and back, but for what is taken out", () => {
  for (let at = 0; at < 9; at += 0.1)
    assert.ok(Math.abs(toProgram(rows, toPaper(rows, at)) - at) < 1e-9);
  assert.equal(toProgram(rows, 5), 4);
  assert.equal(toPaper(rows, 4), 6);
  assert.equal(toPaper(rows, 5), 8);
  assert.equal(toPaper(rows, 99), 13);
  assert.equal(toPaper([rows[1]], 1), 0);
  assert.equal(toProgram([], 3), 0);
});

test("what lies in a take lies on paper wherever it is used", () => {
  assert.deepEqual(onPaper(rows, "a", 3, 7), [
    [3, 4],
    [4, 6],
    [6, 7],
  ]);
  assert.deepEqual(onPaper(rows, "b", 0, 1), []);
  assert.deepEqual(placesOf(rows, "b", 1), [10]);
  assert.deepEqual(placesOf([...rows, ...papered([rows[3]])], "b", 2), [11, 1]);
});

test("what is out takes no paper where it is folded", () => {
  const folded = papered(rows, true);
  assert.deepEqual(
    folded.map((row) => [row.paper, row.paper_end]),
    [
      [0, 4],
      [4, 4],
      [4, 8],
      [8, 11],
    ],
  );
  assert.deepEqual(onPaper(folded, "a", 3, 7), [
    [3, 4],
    [4, 5],
  ]);
  assert.deepEqual(placesOf(folded, "a", 5), []);
  for (let at = 0; at < 9; at += 0.1)
    assert.ok(Math.abs(toProgram(folded, toPaper(folded, at)) - at) < 1e-9);
});

test("what is marked stays where its pieces are, wherever they lie by then", () => {
  const more = papered([piece("p0", "c", 0, 2, 0, 2), ...rows]);
  assert.deepEqual(moved(rows, more, [1, 6]), [3, 8]);
  assert.deepEqual(moved(rows, papered(rows, true), [5, 11]), [4, 9]);
  assert.equal(moved(rows, rows.slice(1), [1, 6]), null);
  assert.equal(moved(rows, papered(rows, true), [4.5, 5.5]), null);
  assert.equal(moved([], rows, [0, 1]), null);
});
