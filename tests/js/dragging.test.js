import assert from "node:assert/strict";
import test from "node:test";
import { dragging } from "../../src/kettle_web/static/kettle/js/lib/dragging.js";

/** Something on a page that is dragged, and what happened to it. */
function held(take = () => "tab") {
  const target = Object.assign(new EventTarget(), {
    captured: [],
    setPointerCapture: (id) => target.captured.push(id),
    releasePointerCapture: (id) => target.captured.splice(target.captured.indexOf(id), 1),
  });
  globalThis.document = new EventTarget();
  const told = [];
  const stop = new AbortController();
  const how = {
    take,
    move: (one, event) => told.push(["move", one, event.clientX]),
    drop: (one, moved) => told.push(["drop", one, moved]),
    putBack: (one) => told.push(["put back", one]),
  };
  const { moving } = dragging(target, how, stop.signal);
  const point = (kind, x, more = {}) => {
    const event = new Event(`pointer${kind}`, { cancelable: true });
    target.dispatchEvent(
      Object.assign(event, { pointerId: 1, button: 0, clientX: x, clientY: 0, ...more }),
    );
    return event;
  };
  const key = (name) => {
    const event = Object.assign(new Event("keydown", { cancelable: true }), { key: name });
    let heard = false;
    document.addEventListener("keydown", () => {
      heard = true;
    });
    document.dispatchEvent(event);
    return heard;
  };
  return { target, told, stop, moving, point, key };
}

test("what is taken hold of follows until it is let go, wherever the pointer is", () => {
  const { target, told, moving, point } = held();
  assert.ok(point("down", 10).defaultPrevented);
  assert.deepEqual(target.captured, [1]);
  point("move", 12);
  assert.equal(moving(), false, "a hand is never still");
  point("move", 40);
  point("move", 11);
  assert.equal(moving(), true);
  point("up", 11);
  assert.deepEqual(told, [
    ["move", "tab", 40],
    ["move", "tab", 11],
    ["drop", "tab", true],
  ]);
  point("move", 90);
  assert.equal(told.length, 3);
});

test("a press without a way is told as one", () => {
  const { told, point } = held();
  point("down", 10);
  point("up", 12);
  assert.deepEqual(told, [["drop", "tab", false]]);
});

test("Escape puts back what is held, and nobody else hears of it", () => {
  const { target, told, point, key } = held();
  point("down", 10);
  point("move", 60);
  assert.equal(key("Escape"), false);
  assert.deepEqual(told.at(-1), ["put back", "tab"]);
  assert.deepEqual(target.captured, []);
  point("up", 60);
  assert.equal(told.length, 2);
  assert.equal(key("Escape"), true, "with nothing held it is for others");
});

test("other pointers, other buttons and what can't be held change nothing", () => {
  const { told, point } = held();
  point("down", 10, { button: 2 });
  point("move", 60);
  point("down", 10);
  point("down", 30, { pointerId: 2 });
  point("move", 60, { pointerId: 2 });
  point("up", 60, { pointerId: 2 });
  assert.deepEqual(told, []);
  point("cancel", 10);
  assert.deepEqual(told, [["drop", "tab", false]]);
  const nothing = held(() => null);
  assert.equal(nothing.point("down", 10).defaultPrevented, false);
  nothing.point("move", 60);
  assert.deepEqual(nothing.told, []);
});

test("once its page is over it hears nothing more", () => {
  const { told, stop, point } = held();
  point("down", 10);
  stop.abort();
  point("move", 60);
  point("up", 60);
  assert.deepEqual(told, []);
});
