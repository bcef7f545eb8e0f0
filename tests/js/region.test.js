import assert from "node:assert/strict";
import { test } from "node:test";
import { boxByKey, placeBox } from "../../src/kettle_web/static/kettle/js/lib/region.js";

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
