import assert from "node:assert/strict";
import { beforeEach, test } from "node:test";
import { lineStrips } from "../../src/kettle_web/static/kettle/js/components/line_strips.js";
import { layOut } from "../../src/kettle_web/static/kettle/js/lib/take_lines.js";
import { itemsOn } from "../../src/kettle_web/static/kettle/js/lib/take_paper.js";

const NOTHING = itemsOn({
  ...{ quiet: [], gaps: [], clips: [], breaks: [], changed: [] },
  ...{ seams: [], folds: [], fades: [], cards: [] },
});
/** @type {Record<string, number>} how often each line was drawn, by its beginning */
let drawn = {};
/** @type {any} */
let strips;

function element() {
  const pen = { save() {}, restore() {}, beginPath() {}, rect() {}, clip() {}, clearRect() {} };
  return {
    style: {},
    getContext: () => ({ ...pen, setTransform() {} }),
    remove() {},
    querySelector: element,
    appendChild: (/** @type {unknown} */ one) => one,
  };
}

/** @param {object} [more] @param {(from: number) => unknown} [inkKey] @param {number} [length] */
function draw(more = {}, inkKey = () => 1, length = 3600) {
  drawn = {};
  const paper = { ...NOTHING, ...more, inkKey };
  strips(
    paper,
    layOut(length, [], []),
    900,
    () => "0:00",
    (/** @type {any} */ _pen, /** @type {any} */ here, /** @type {any} */ line) => {
      drawn[line.from] = here.changed.length;
    },
  );
  return Object.keys(drawn).length;
}

beforeEach(() => {
  Object.assign(globalThis, { window: { devicePixelRatio: 1 } });
  Object.assign(globalThis, { document: { createElement: element } });
  strips = lineStrips(/** @type {any} */ (element()));
  assert.equal(draw(), 60);
});

test("what looks as it did is not drawn again", () => {
  assert.equal(draw(), 0);
});

test("a stretch that is changed is drawn where it lies, and again where it is no more", () => {
  const changed = [{ from: 130, until: 190, out: true, words: "" }];
  assert.equal(draw({ changed }), 2);
  assert.deepEqual(drawn, { 120: 1, 180: 1 });
  assert.equal(draw(), 2);
  assert.deepEqual(drawn, { 120: 0, 180: 0 });
});

test("ink that is another one is drawn on its line; another length moves them all", () => {
  assert.equal(
    draw({}, (from) => (from === 600 ? 2 : 1)),
    1,
  );
  assert.equal(
    draw({}, () => 1, 200),
    7,
  );
});
