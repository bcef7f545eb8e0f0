import assert from "node:assert/strict";
import test from "node:test";
import {
  dragFrom,
  dragTo,
  nudged,
  picked,
  roundedFrom,
} from "../../src/kettle_web/static/kettle/js/lib/table_state.js";

const box = (left, top, width, height) => ({ left, top, width, height });
const layer = (id, at, more = {}) => ({
  id,
  box: at,
  crop: box(0, 0, 400, 200),
  turn: 0,
  mirrored: false,
  source: [400, 200],
  ...more,
});

test("layers that are moved together keep their distance and snap as one", () => {
  const layers = [layer("a", box(10, 10, 100, 50)), layer("b", box(200, 40, 100, 50))];
  const drag = dragFrom("move", 50, 20, [0, 0], layers);
  const free = dragTo(drag, 57.4, 25, [], 7, false).changes;
  assert.deepEqual(free.get("a").box, box(17, 15, 100, 50));
  assert.deepEqual(free.get("b").box, box(207, 45, 100, 50));
  const lines = [{ axis: "x", at: 0, of: "", words: "left edge of the frame" }];
  const { changes, snapped } = dragTo(drag, 43, 20, lines, 7, false);
  assert.deepEqual([snapped.length, changes.get("a").box.left], [1, 0]);
  assert.equal(changes.get("b").box.left - changes.get("a").box.left, 190);
  // What is dragged is taken from where it began, not from where it was shown last.
  assert.deepEqual(drag.starts.get("a").box, box(10, 10, 100, 50));
});

test("a side that is pulled leaves the other one where it was", () => {
  const drag = dragFrom("size", 110, 35, [1, 0], [layer("a", box(10, 10, 100, 50))]);
  const made = dragTo(drag, 160, 35, [], -1, true).changes.get("a").box;
  assert.deepEqual([made.left, made.width, made.height], [10, 150, 50]);
  const kept = dragTo(drag, 160, 35, [], -1, false).changes.get("a").box;
  assert.equal(kept.width / kept.height, 2);
});

test("a layer is turned about its middle by what the pointer turns", () => {
  const drag = dragFrom("turn", 160, 35, [0, 0], [layer("a", box(10, 10, 100, 50))]);
  assert.equal(Math.round(dragTo(drag, 60, 135, [], -1, false).changes.get("a").turn), 90);
});

test("cropping changes what is used of the picture and nothing of its scale", () => {
  const drag = dragFrom("crop", 410, 100, [1, 0], [layer("a", box(10, 10, 400, 200))]);
  const made = dragTo(drag, 310, 100, [], -1, false).changes.get("a");
  assert.equal(made.crop.width, 300);
  assert.equal(made.box.width, 300);
});

test("arrow keys move by px or grow with the aspect ratio kept, never to nothing", () => {
  assert.deepEqual(nudged(box(5, 5, 100, 50), [1, 0], 10, false), box(15, 5, 100, 50));
  assert.deepEqual(nudged(box(5, 5, 100, 50), [1, 0], 10, true), box(5, 5, 110, 55));
  assert.deepEqual(nudged(box(5, 5, 12, 8), [-1, 0], 10, true), box(5, 5, 12, 8));
});

test("a box comes to rest on whole px with the side that was not pulled in its place", () => {
  assert.deepEqual(
    roundedFrom(box(10, 10, 100, 50), box(4.6, 10, 105.4, 50), -1, 0),
    box(5, 10, 105, 50),
  );
});

test("a pick selects one layer, or adds and takes away", () => {
  assert.deepEqual(picked(["a"], "b", false), ["b"]);
  assert.deepEqual(picked(["a"], "b", true), ["a", "b"]);
  assert.deepEqual(picked(["a", "b"], "b", true), ["a"]);
});
