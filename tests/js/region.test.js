import assert from "node:assert/strict";
import { test } from "node:test";
import {
  boxByKey,
  draggedBox,
  placeBox,
  sidesAt,
} from "../../src/kettle_web/static/kettle/js/lib/region.js";

test("whatever is dragged stays even and on the picture", () => {
  for (const [width, height] of [
    [1920, 1080],
    [855, 481],
    [320, 200],
  ]) {
    for (let n = 0; n < 200; n++) {
      const any = () => Math.round(Math.sin(n * 12.9898 + width) * 4000 + n);
      const box = placeBox(
        { left: any(), top: any(), width: any(), height: any() + n },
        width,
        height,
      );
      assert.ok(Object.values(box).every((value) => value % 2 === 0 && value >= 0));
      assert.ok(box.left + box.width <= width && box.top + box.height <= height);
      assert.ok(box.width >= 64 && box.height >= 64);
    }
  }
});

test("arrow keys move a box, with Ctrl its right and lower sides", () => {
  const box = { left: 10, top: 20, width: 300, height: 200 };
  assert.deepEqual(boxByKey(box, "ArrowLeft", false, 2), { ...box, left: 8 });
  assert.deepEqual(boxByKey(box, "ArrowDown", true, 20), { ...box, height: 220 });
  assert.equal(boxByKey(box, "Enter", false, 2), null);
});

test("the pointer takes a side, a corner or all of a region", () => {
  const shown = { left: 100, top: 100, right: 300, bottom: 200 };
  assert.deepEqual(sidesAt(shown, 200, 150, 9), [0, 0]);
  assert.deepEqual(sidesAt(shown, 104, 150, 9), [-1, 0]);
  assert.deepEqual(sidesAt(shown, 296, 198, 9), [1, 1]);
});

test("a region that is dragged stays on the picture, its sides leave it large enough", () => {
  const box = { left: 200, top: 100, width: 400, height: 300 };
  assert.deepEqual(draggedBox(box, [0, 0], -900, 50, 1920, 1080), { ...box, left: 0, top: 150 });
  assert.deepEqual(draggedBox(box, [1, 0], 9000, 70, 1920, 1080), { ...box, width: 1720 });
  assert.deepEqual(draggedBox(box, [-1, -1], -50, 900, 1920, 1080), {
    left: 150,
    top: 336,
    width: 450,
    height: 64,
  });
});
