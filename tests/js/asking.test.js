import assert from "node:assert/strict";
import test from "node:test";
import { asking, untouched } from "../../src/kettle_web/static/kettle/js/lib/asking.js";

test("an answer is shown until something newer is asked for", () => {
  const page = asking(4);
  const first = page.begin();
  assert.ok(first(4));
  const second = page.begin();
  assert.ok(!first(5));
  assert.ok(second(5));
});

test("who only looks makes nothing old, and is old when something is asked for", () => {
  const page = asking(1);
  const saved = page.begin();
  const looked = page.begin(true);
  assert.ok(saved(2) && looked(2));
  const chosen = page.begin();
  assert.ok(chosen(2) && !saved(2) && !looked(2));
});

test("what is looked for takes nothing from what is being saved, and is old once that is shown", () => {
  const page = asking(1);
  const saved = page.begin();
  const [first, second, third] = [page.begin(true), page.begin(true), page.begin(true)];
  assert.ok(second(1));
  page.takeOver(1, true);
  assert.ok(!first(1));
  assert.ok(saved(2));
  page.takeOver(2);
  assert.ok(!third(2));
});

test("an answer that shows an older revision than the page is dropped", () => {
  const page = asking(7);
  const late = page.begin();
  page.takeOver(9);
  assert.equal(page.revision, 9);
  const next = page.begin();
  assert.ok(!next(8) && next(9) && !late(9));
});

test("a refusal is shown whatever was asked for meanwhile", () => {
  const page = asking(1);
  const refused = page.begin();
  page.begin();
  assert.ok(refused(1, false));
});

test("what is saved next was decided knowing our own change, but not another's", () => {
  const page = asking(3);
  page.saved(4);
  assert.equal(page.revision, 4);
  page.saved(6);
  assert.equal(page.revision, 4);
});

test("fields are untouched while they are as they were shown and right", () => {
  const option = (selected, defaultSelected) => ({ selected, defaultSelected });
  const text = { type: "text", value: "1", defaultValue: "1" };
  const names = untouched([
    { ...text, name: "left" },
    { ...text, name: "top", value: "2" },
    { ...text, name: "wrong", invalid: true },
    { ...text, name: "secret", type: "hidden" },
    { name: "on", type: "checkbox", value: "on", checked: true, defaultChecked: true },
    { name: "off", type: "checkbox", value: "on", checked: false, defaultChecked: true },
    { name: "kind", type: "radio", value: "a", checked: true, defaultChecked: true },
    { name: "kind", type: "radio", value: "b", checked: false, defaultChecked: false },
    { name: "way", type: "radio", value: "a", checked: false, defaultChecked: true },
    { name: "way", type: "radio", value: "b", checked: true, defaultChecked: false },
    { name: "size", type: "select-one", value: "a", options: [option(true, true)] },
    {
      name: "rate",
      type: "select-one",
      value: "b",
      options: [option(false, true), option(true, false)],
    },
  ]);
  assert.deepEqual(names, ["left", "on", "kind", "size"]);
});
