import assert from "node:assert/strict";
import test from "node:test";
import { beginAsking } from "../../src/kettle_web/static/kettle/js/lib/parts.js";

test("an answer is the newest until something newer is asked for", () => {
  const first = beginAsking();
  assert.ok(first());
  const second = beginAsking();
  assert.ok(!first());
  assert.ok(second());
});

test("who only looks makes nothing old, and is old when something is asked for", () => {
  const saved = beginAsking();
  const looked = beginAsking(true);
  assert.ok(saved() && looked());
  const chosen = beginAsking();
  assert.ok(chosen() && !saved() && !looked());
});
