import assert from "node:assert/strict";
import test from "node:test";
import { drafts } from "../../src/kettle_web/static/kettle/js/lib/drafts.js";
import { queue } from "../../src/kettle_web/static/kettle/js/lib/queue.js";

/** A browser's storage; one that is full keeps nothing. */
function storage(full = false) {
  const kept = new Map();
  return {
    getItem: (key) => kept.get(key) ?? null,
    setItem: (key, value) => {
      if (full) throw new Error("full");
      kept.set(key, value);
    },
    removeItem: (key) => kept.delete(key),
    kept,
  };
}

test("what was typed is there again where nobody was newer, and only there", () => {
  const kept = storage();
  const typed = drafts(kept, "/takes/1/");
  typed.keep("name", "Take 1", "Take one, s");
  typed.keep("words", "", "glue");
  typed.keep("gone", "x", "y");
  const shown = new Map([
    ["name", "Take 1"],
    ["words", "wax"],
  ]);
  // It was saved, or changed elsewhere: what is now counts, and is not asked about again.
  assert.deepEqual([...drafts(kept, "/takes/1/").again(shown)], [["name", "Take one, s"]]);
  shown.set("words", "");
  assert.deepEqual([...typed.again(shown)], [["name", "Take one, s"]]);
  assert.deepEqual([...drafts(kept, "/takes/2/").again(shown)], []);
});

test("what is saved, or typed back, is forgotten", () => {
  const kept = storage();
  const typed = drafts(kept, "/");
  typed.keep("a", "", "one");
  typed.keep("b", "", "two");
  typed.keep("b", "", "");
  typed.forget(["a"]);
  assert.equal(kept.kept.size, 0);
});

test("one that was refused begins with what is saved", () => {
  const typed = drafts(storage(), "/");
  typed.keep("fps", "30", "3000");
  // The page shows what was typed, with what is wrong with it.
  typed.keep("fps", "3000", "300");
  assert.deepEqual([...typed.again(new Map([["fps", "30"]]))], [["fps", "300"]]);
});

test("old ones, damaged ones and a storage that is full are none", () => {
  const kept = storage();
  let now = 0;
  const typed = drafts(kept, "/", () => now);
  typed.keep("a", "", "one");
  now = 8 * 24 * 3600 * 1000;
  assert.equal(typed.again(new Map([["a", ""]])).size, 0);
  for (const text of ["{", "null", "[1]", '{"a": 1}', '{"a": null}']) {
    kept.setItem("typed /", text);
    assert.equal(typed.again(new Map([["a", ""]])).size, 0, text);
  }
  drafts(storage(true), "/").keep("a", "", "one");
});

test("what is saved goes one after the other, also after one that failed", async () => {
  const line = queue();
  const done = [];
  const slow = line.add(async () => {
    await new Promise((go) => setTimeout(go, 5));
    done.push("slow");
    throw new Error("away");
  });
  line.add(async () => {
    done.push("quick");
  });
  assert.equal(line.count, 2);
  await assert.rejects(slow);
  await line.idle();
  assert.deepEqual([done, line.count], [["slow", "quick"], 0]);
});
