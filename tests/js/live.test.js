import assert from "node:assert/strict";
import test from "node:test";
import { FakeSocket, sockets } from "./fake_socket.js";

class Page extends EventTarget {
  hidden = false;
  hide(hidden) {
    this.hidden = hidden;
    this.dispatchEvent(new Event("visibilitychange"));
  }
}
const page = new Page();
Object.assign(globalThis, {
  window: globalThis,
  document: page,
  location: { protocol: "http:", host: "127.0.0.1:8123" },
  WebSocket: FakeSocket,
});
const { mount } = await import("../../src/kettle_web/static/kettle/js/components/live.js");

function opened(dataset) {
  const root = Object.assign(new EventTarget(), {
    dataset: { live: "demo", want: "levels", ...dataset },
  });
  const { destroy } = mount(root);
  const socket = sockets.at(-1);
  socket.open();
  return { root, socket, destroy };
}

test("a page that looks at no pictures says nothing, and keeps what it wanted", () => {
  const { socket, destroy } = opened({});
  assert.deepEqual(socket.sent, []);
  page.hide(true);
  assert.equal(socket.readyState, 3);
  page.hide(false);
  assert.equal(sockets.at(-1) === socket, false);
  destroy();
});

test("one that stays hears nothing but how things stand while it is hidden, then all again", () => {
  const { root, socket, destroy } = opened({ stays: "" });
  page.hide(true);
  page.hide(false);
  assert.deepEqual(socket.sent, [{ look: {}, hidden: true }, { look: {} }]);
  const look = JSON.stringify({ look: { small: ["webcam-1"] } });
  root.dispatchEvent(new CustomEvent("live:look", { detail: look }));
  page.hide(true);
  page.hide(false);
  assert.deepEqual(socket.sent.slice(2), [
    { look: { small: ["webcam-1"] } },
    { look: {}, hidden: true },
    { look: { small: ["webcam-1"] } },
  ]);
  destroy();
});
