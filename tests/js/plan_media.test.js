import assert from "node:assert/strict";
import test, { afterEach, beforeEach } from "node:test";
import { FakeSocket, sockets } from "./fake_socket.js";

/** What a page has of sockets, sound and pictures, as far as a plan's player needs it. */
class Element extends EventTarget {
  dataset = {};
  attributes = {};
  children = [];
  isConnected = false;
  hidden = false;
  append(...more) {
    this.children.push(...more);
  }
  getAttribute(name) {
    return this.attributes[name] ?? null;
  }
  setAttribute(name, value) {
    this.attributes[name] = value;
  }
  getContext() {
    return { drawImage: (bitmap) => drawn.push(bitmap.says) };
  }
}

class Socket extends FakeSocket {
  close() {}
  async says(kind, turn, at, body = new Uint8Array()) {
    const bytes = new Uint8Array(13 + body.byteLength);
    const head = new DataView(bytes.buffer);
    head.setUint8(0, kind);
    head.setUint32(1, turn, true);
    head.setFloat64(5, at, true);
    bytes.set(new Uint8Array(body.buffer ?? body), 13);
    this.dispatchEvent(Object.assign(new Event("message"), { data: bytes.buffer }));
    for (let n = 0; n < 4; n += 1) await null;
  }
}

const PICTURE = 0;
const SOUND = 1;
const END = 2;
const TROUBLE = 3;
let drawn = [];
let heard = [];
let frames = [];
const device = { currentTime: 10, outputLatency: 0, destination: {}, resume: async () => {} };
Object.assign(globalThis, {
  window: globalThis,
  location: { protocol: "http:", host: "127.0.0.1:8123" },
  document: { createElement: () => new Element() },
  customElements: { define: () => {} },
  HTMLElement: Element,
  WebSocket: Socket,
  AudioContext: class {
    constructor() {
      // biome-ignore lint/correctness/noConstructorReturn: there is one device
      return device;
    }
  },
  GainNode: class {
    gain = { value: 1 };
    connect() {}
    disconnect() {
      this.off = true;
    }
  },
  AudioBuffer: class {
    constructor({ length }) {
      this.length = length;
    }
    copyToChannel() {}
  },
  AudioBufferSourceNode: class {
    constructor(_, { buffer }) {
      this.buffer = buffer;
    }
    connect() {}
    start(when) {
      heard.push([when, this.buffer.length]);
    }
  },
  createImageBitmap: async (blob) => ({
    ...{ width: 1, height: 1, says: await blob.text() },
    close() {},
  }),
  requestAnimationFrame: (tick) => frames.push(tick),
  cancelAnimationFrame: () => {
    frames = [];
  },
});
const { PlanMedia } = await import(
  "../../src/kettle_web/static/kettle/js/components/plan_media.js"
);

let made = [];
beforeEach(() => {
  sockets.length = 0;
  drawn = [];
  heard = [];
  frames = [];
  device.currentTime = 10;
});
afterEach(() => {
  for (const one of made) one.disconnectedCallback();
  made = [];
});

/** A plan on a page whose socket is open. */
function opened() {
  const media = new PlanMedia();
  made.push(media);
  media.src = "/live/takes/1/?revision=1";
  media.isConnected = true;
  media.connectedCallback();
  sockets[0].open();
  return { media, socket: sockets[0] };
}

const words = (text) => new TextEncoder().encode(text);
/** So many samples, left and right. */
const sound = (samples) => new Int16Array(2 * samples);
const drawNow = () => {
  const due = frames;
  frames = [];
  for (const tick of due) tick();
};
const near = (a, b) => assert.ok(Math.abs(a - b) < 1e-6, `${a} is not ${b}`);

test("it stands where it is asked to, and shows the picture of there", async () => {
  const { media, socket } = opened();
  assert.equal(socket.address, "ws://127.0.0.1:8123/live/takes/1/?revision=1");
  media.currentTime = 4;
  const { turn, at, playing } = socket.sent.at(-1);
  assert.deepEqual([at, playing], [4, false]);
  await socket.says(PICTURE, turn - 1, 1, words("of before"));
  await socket.says(PICTURE, turn, 4, words("four"));
  assert.deepEqual(drawn, ["four"]);
  assert.equal(media.dataset.shows, "4.0000");
});

test("sound is the clock: pieces lie end to end, and pictures are drawn at their times", async () => {
  const { media, socket } = opened();
  await media.play();
  assert.equal(media.seeking, true);
  const { turn } = socket.sent.at(-1);
  await socket.says(SOUND, turn, 0, sound(4800));
  await socket.says(SOUND, turn, 0.1, sound(4800));
  assert.equal(media.seeking, false);
  const [[first, length], [second]] = heard;
  assert.ok(first >= 10.04);
  near(second - first, length / 48_000);
  for (const [at, says] of [
    [0, "0"],
    [0.1, "1"],
    [0.2, "2"],
  ])
    await socket.says(PICTURE, turn, at, words(says));
  device.currentTime = first;
  drawNow();
  device.currentTime = first + 0.11;
  drawNow();
  assert.deepEqual(drawn, ["0", "1"]);
  near(media.currentTime, 0.11);
});

test("a picture that comes too late is left out, unless nothing was drawn for a while", async () => {
  const { media, socket } = opened();
  await media.play();
  const { turn } = socket.sent.at(-1);
  await socket.says(SOUND, turn, 0, sound(48_000));
  const [[begins]] = heard;
  device.currentTime = begins + 0.1;
  await socket.says(PICTURE, turn, 0.02, words("late"));
  drawNow();
  assert.deepEqual(drawn, []);
  device.currentTime = begins + 0.5;
  await socket.says(PICTURE, turn, 0.42, words("late, but better than none"));
  drawNow();
  assert.deepEqual(drawn, ["late, but better than none"]);
  // Where all of them are late one is seen now and then, not each.
  for (const n of [1, 2, 3, 4, 5, 6]) {
    device.currentTime = begins + 0.5 + n * 0.05;
    await socket.says(PICTURE, turn, 0.42 + n * 0.05, words(`late ${n}`));
    drawNow();
  }
  assert.deepEqual(drawn, ["late, but better than none", "late 6"]);
});

test("its end is told when it is heard", async () => {
  const { media, socket } = opened();
  await media.play();
  const { turn } = socket.sent.at(-1);
  await socket.says(SOUND, turn, 0, sound(4800));
  await socket.says(END, turn, 0.1);
  drawNow();
  assert.equal(media.ended, false);
  device.currentTime = heard[0][0] + 0.1;
  drawNow();
  assert.deepEqual([media.ended, media.paused, media.currentTime], [true, true, 0.1]);
});

test("a stretch is played over and over while its time runs on", async () => {
  const { media, socket } = opened();
  media.currentTime = 3;
  media.stretch = [3, 4];
  await media.play();
  const { turn, loop } = socket.sent.at(-1);
  assert.deepEqual(loop, [3, 4]);
  await socket.says(SOUND, turn, 3, sound(3 * 48_000));
  device.currentTime = heard[0][0] + 2.25;
  near(media.currentTime, 3.25);
  media.stretch = [3, 4];
  assert.equal(socket.sent.at(-1).turn, turn);
  media.stretch = null;
  assert.equal(socket.sent.at(-1).turn, turn + 1);
});

test("speed, another revision and a pause begin anew where it is; the same ones do not", async () => {
  const { media, socket } = opened();
  media.playbackRate = 1;
  const begun = socket.sent.length;
  await media.play();
  await media.play();
  const { turn } = socket.sent.at(-1);
  assert.equal(socket.sent.length, begun + 1);
  await socket.says(SOUND, turn, 0, sound(48_000));
  device.currentTime = heard[0][0] + 0.5;
  media.playbackRate = 2;
  let order = socket.sent.at(-1);
  assert.deepEqual([order.turn, order.rate], [turn + 1, 2]);
  near(order.at, 0.5);
  media.src = "/live/takes/1/?revision=2";
  order = socket.sent.at(-1);
  assert.equal(order.anew, true);
  media.pause();
  order = socket.sent.at(-1);
  assert.deepEqual([order.playing, order.anew], [false, false]);
});

test("what is wrong is told in words, and the next picture takes them away", async () => {
  const { media, socket } = opened();
  const told = media.children[1];
  await media.play();
  const { turn } = socket.sent.at(-1);
  await socket.says(TROUBLE, turn, 0, words("The take is not there any more."));
  assert.deepEqual([told.textContent, told.hidden], ["The take is not there any more.", false]);
  assert.deepEqual([media.paused, media.seeking, media.failed], [true, false, true]);
  media.currentTime = 1;
  await socket.says(PICTURE, socket.sent.at(-1).turn, 1, words("there again"));
  assert.deepEqual([told.hidden, media.failed], [true, false]);
});

test("that nothing comes for a while is said, until something does", async (t) => {
  t.mock.timers.enable({ apis: ["setTimeout", "setInterval"] });
  const { media, socket } = opened();
  const told = media.children[1];
  t.mock.timers.tick(2000);
  assert.equal(told.hidden, true);
  await media.play();
  const { turn } = socket.sent.at(-1);
  t.mock.timers.tick(600);
  assert.equal(told.hidden, true);
  t.mock.timers.tick(200);
  assert.deepEqual([told.textContent, told.hidden], ["It is being opened.", false]);
  await socket.says(SOUND, turn, 0, sound(4800));
  await socket.says(PICTURE, turn, 0, words("first"));
  drawNow();
  assert.equal(told.hidden, true);
  t.mock.timers.tick(2000);
  assert.equal(told.hidden, true);
});

test("a connection that drops comes back where it was, unless the take is gone", (t) => {
  t.mock.timers.enable({ apis: ["setTimeout"] });
  const { media, socket } = opened();
  media.currentTime = 6;
  socket.end(1006);
  t.mock.timers.tick(300);
  assert.equal(sockets.length, 2);
  sockets[1].open();
  assert.equal(sockets[1].sent[0].at, 6);
  sockets[1].end(4404);
  t.mock.timers.tick(60_000);
  assert.equal(sockets.length, 2);
});

test("a page that is not seen is heard, and keeps no pictures", async () => {
  const { media, socket } = opened();
  await media.play();
  const { turn } = socket.sent.at(-1);
  await socket.says(SOUND, turn, 0, sound(4800));
  const made = globalThis.createImageBitmap;
  let kept = 0;
  globalThis.createImageBitmap = async (blob) => {
    kept += 1;
    return made(blob);
  };
  document.hidden = true;
  for (let at = 0; at < 10; at += 1) await socket.says(PICTURE, turn, at, words(`${at}`));
  await socket.says(SOUND, turn, 0.1, sound(4800));
  document.hidden = false;
  assert.deepEqual([kept, heard.length], [0, 2]);
  await socket.says(PICTURE, turn, 11, words("seen again"));
  globalThis.createImageBitmap = made;
  assert.equal(kept, 1);
});
