import assert from "node:assert/strict";
import test from "node:test";
import { snapped, snapsOf } from "../../src/kettle_web/static/kettle/js/lib/snapping.js";

test("a place is drawn to the nearest one that is near enough", () => {
  assert.equal(snapped(5.04, [1, 5, 5.1], 0.05), 5);
  assert.equal(snapped(5.07, [1, 5, 5.1], 0.05), 5.1);
  assert.equal(snapped(5.5, [1, 5, 5.1], 0.05), 5.5);
  assert.equal(snapped(5.5, [], 0.05), 5.5);
});

test("what stands on the lines is what is meant", () => {
  const at = (at_s) => [{ at_s, words: "" }];
  const changed = [{ from: 7, until: 8, out: true, words: "" }];
  const paper = {
    steps: at(1),
    scenes: at(2),
    marks: at(3),
    quiet: [[4, 5]],
    seams: [6],
    folds: [],
    changed,
  };
  assert.deepEqual(snapsOf(paper), [1, 2, 3, 4, 5, 6, 7, 8]);
});
