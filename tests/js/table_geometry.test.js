import assert from "node:assert/strict";
import test from "node:test";
import {
  around,
  boundsOf,
  cropped,
  niceTurn,
  pointOf,
  resized,
  resizedSnapped,
  rulerStep,
  snapBy,
  wholeBox,
} from "../../src/kettle_web/static/kettle/js/lib/table_geometry.js";

const box = { left: 100, top: 50, width: 400, height: 200 };
const near = (a, b) => assert.ok(Math.abs(a - b) < 1e-6, `${a} is not ${b}`);

test("a corner that is not pulled stays, whatever the turn", () => {
  for (const turn of [0, 30, 90, 200]) {
    for (const [hx, hy] of [
      [1, 1],
      [-1, 1],
      [1, -1],
      [-1, -1],
    ]) {
      const before = pointOf(box, turn, -hx, -hy);
      const pulled = resized(box, turn, hx, hy, 37, -21, true);
      const after = pointOf(pulled, turn, -hx, -hy);
      near(after[0], before[0]);
      near(after[1], before[1]);
      near(pulled.width / pulled.height, 2);
    }
  }
});

test("a side is pulled alone when the aspect ratio is free", () => {
  const pulled = resized(box, 0, 1, 0, 60, 99, false);
  assert.deepEqual(pulled, { left: 100, top: 50, width: 460, height: 200 });
  assert.equal(resized(box, 0, 1, 1, -9999, -9999, true).height, 8);
});

test("bounds of a quarter turn are as wide as the box was high", () => {
  const bounds = boundsOf(box, 90);
  near(bounds.right - bounds.left, 200);
  assert.deepEqual(around([boundsOf(box, 0), { left: 0, top: 0, right: 10, bottom: 10 }]), {
    left: 0,
    top: 0,
    right: 500,
    bottom: 250,
  });
});

const lines = [
  { axis: "x", at: 0, words: "edge", of: "" },
  { axis: "x", at: 320, words: "centre", of: "" },
  { axis: "y", at: 262, words: "edge of Logo", of: "logo" },
];

test("snapping takes the nearest line within its reach and none beyond it", () => {
  const snap = snapBy(boundsOf({ ...box, left: 126 }, 0), lines, 15);
  assert.equal(snap.dx, -6);
  assert.equal(snap.dy, 12);
  assert.deepEqual(
    snap.lines.map((line) => line.words),
    ["centre", "edge of Logo"],
  );
  assert.deepEqual(snapBy(boundsOf(box, 0), lines, -1), { dx: 0, dy: 0, lines: [] });
});

test("a pulled side ends on a line and the aspect ratio is kept", () => {
  const made = resizedSnapped(box, 1, 1, 2, 9, true, lines, 10);
  near(made.box.top + made.box.height, 262);
  near(made.box.width / made.box.height, 2);
  assert.equal(made.lines.length, 1);
});

test("cropping keeps the scale, stops at the picture and knows mirrors", () => {
  const start = {
    box,
    crop: { left: 200, top: 0, width: 800, height: 400 },
    turn: 0,
    mirrored: false,
    source: [1000, 400],
  };
  const cut = cropped(start, -1, 0, 50, 0);
  assert.deepEqual(cut.crop, { left: 300, top: 0, width: 700, height: 400 });
  near(cut.box.left, 150);
  near(cut.box.width, 350);
  assert.equal(cropped(start, -1, 0, -9999, 0).crop.left, 0);
  const mirrored = cropped({ ...start, mirrored: true }, -1, 0, 50, 0);
  assert.deepEqual(mirrored.crop, { left: 200, top: 0, width: 700, height: 400 });
  near(mirrored.box.left, 150);
});

test("turns are drawn to fifteens, unless they are free", () => {
  assert.equal(niceTurn(31.4, false), 30);
  assert.equal(niceTurn(31.44, true), 31.4);
  assert.equal(niceTurn(-10, true), 350);
  assert.equal(niceTurn(359, false), 0);
});

test("boxes come to rest on whole px and rulers have round steps", () => {
  assert.deepEqual(wholeBox({ left: 10.4, top: 0.6, width: 99.7, height: 50.2 }), {
    left: 10,
    top: 1,
    width: 100,
    height: 50,
  });
  assert.equal(rulerStep(0.41, 70), 200);
  assert.equal(rulerStep(1, 70), 100);
});
