import assert from "node:assert/strict";
import test from "node:test";
import { TakeView } from "../../src/kettle_web/static/kettle/js/components/take_view.js";

/** As much of an element as a player needs: attributes, data, whether it plays and where. */
class Media extends EventTarget {
  #at = 0;
  constructor() {
    super();
    Object.assign(this, { localName: "", dataset: {}, muted: false, hidden: false, paused: true });
    Object.assign(this, { ended: false, seeking: false, readyState: 4, playbackRate: 1 });
    /** Where it was set to, by hand. */
    this.set = [];
    this.src = "";
  }
  get currentTime() {
    return this.#at;
  }
  set currentTime(at) {
    this.#at = at;
    this.set.push(at);
  }
  /** Time passes while it plays. */
  run(seconds) {
    if (!this.paused) this.#at += seconds * this.playbackRate;
  }
  getAttribute(name) {
    return this[name] ?? null;
  }
  async play() {
    this.paused = false;
  }
  pause() {
    this.paused = true;
  }
  load() {
    Object.assign(this, { readyState: 0, loaded: true });
  }
  remove() {
    this.removed = true;
  }
}

let frames = [];
Object.assign(globalThis, {
  HTMLElement: Media,
  HTMLMediaElement: class extends Media {},
  customElements: { define: () => {} },
  requestAnimationFrame: (tick) => frames.push(tick),
  cancelAnimationFrame: () => {
    frames = [];
  },
});
const { PlanMedia } = await import(
  "../../src/kettle_web/static/kettle/js/components/plan_media.js"
);
const { mount } = await import("../../src/kettle_web/static/kettle/js/components/take_player.js");

const track = (name, is_picture, more = {}) => ({
  ...{ name, is_picture, kind: is_picture ? "display" : "voice", play: `/play/${name}` },
  ...{ shift_s: 0, knots: [[0, 0, 1]], came: [[0, 0, 1]], ...more },
});

/** A player of a take of 10 s, and all that it made. */
function played(more = {}) {
  frames = [];
  const made = [];
  globalThis.document = {
    createElement(tag) {
      const element = new HTMLMediaElement();
      if (tag === "plan-media") Object.setPrototypeOf(element, FakePlan);
      element.localName = tag;
      made.push(element);
      return element;
    },
  };
  const root = Object.assign(new EventTarget(), { append: () => {} });
  const data = {
    now: {
      ...{ fps: 30, length_s: 10, pieces: [[0, 0]], program: "", plan: "" },
      tracks: [track("display-1", true), track("headset", false), track("system", false)],
      ...more,
    },
  };
  const view = new TakeView();
  view.setTotal(10);
  const player = mount(root, data, view);
  player.refresh();
  const of = (name) => made.find((one) => one.dataset.plays === name && !one.removed);
  /** Time passes, then a picture is drawn. */
  const pass = (seconds) => {
    for (const one of made) one.run(seconds);
    const due = frames;
    frames = [];
    for (const tick of due) tick();
  };
  return { data, view, player, of, pass };
}

/** A plan is one for what asks, with a stretch to play over and over. */
const FakePlan = Object.create(PlanMedia.prototype, {
  ...Object.getOwnPropertyDescriptors(Media.prototype),
  stretch: {
    get() {
      return this.looped ?? null;
    },
    set(stretch) {
      this.looped = stretch;
    },
  },
  src: { value: "", writable: true },
});

const PLAN = { plan: "/live/takes/1/?revision=1" };
const near = (a, b) => assert.ok(Math.abs(a - b) < 1e-9, `${a} is not ${b}`);

test("what plays runs on, whatever its page learns meanwhile", () => {
  for (const more of [{}, PLAN]) {
    const { player, view, of, pass } = played(more);
    view.go(2);
    player.toggle();
    const leader = of(more.plan ? "program" : "headset");
    assert.equal(leader.paused, false);
    const before = leader.set.length;
    for (let n = 0; n < 5; n += 1) {
      pass(0.1);
      // The play head is a picture behind by then.
      leader.run(0.05);
      player.refresh();
    }
    assert.equal(leader.set.length, before);
    near(leader.currentTime, 2.75);
    player.toggle();
    assert.equal(leader.paused, true);
  }
});

test("what can't be loaded ends what it leads, is told, and is loaded again by playing", () => {
  const { player, view, of, pass } = played();
  view.go(2);
  player.toggle();
  of("system").dispatchEvent(new Event("error"));
  pass(0.1);
  assert.equal(player.playing, true);
  assert.match(player.lost, /^system cannot be loaded/);
  const leader = of("headset");
  leader.dispatchEvent(new Event("error"));
  pass(0.1);
  assert.equal(player.playing, false);
  assert.match(player.lost, /^headset and system cannot/);
  player.toggle();
  assert.equal(player.lost, "");
  assert.ok(leader.loaded && of("system").loaded);
  // Until it has come the play head stays.
  const { at } = view;
  leader.currentTime = 0;
  pass(0.1);
  assert.equal(view.at, at);
  leader.readyState = 4;
  leader.dispatchEvent(new Event("loadedmetadata"));
  pass(0.1);
  near(view.at, at + 0.1);
});

test("the first sound leads; others a little off run faster or slower, far ones are set", () => {
  const { player, view, of, pass } = played();
  player.toggle();
  const [leader, other] = [of("headset"), of("system")];
  leader.run(1);
  other.run(0.95);
  pass(0);
  near(view.at, 1);
  near(other.playbackRate, 1.05);
  assert.equal(other.set.length, 0);
  leader.run(3);
  other.run(0.5);
  pass(0);
  near(other.currentTime, leader.currentTime);
  pass(0);
  near(other.playbackRate, 1);
});

test("a track that was moved, and one with a clock of its own, lie where they belong", () => {
  const tracks = [
    track("display-1", true, { shift_s: 0.5 }),
    track("headset", false),
    track("system", false, { knots: [[0, 0.25, 1.0001]] }),
  ];
  const { player, view, of } = played({ tracks });
  view.go(4);
  assert.equal(of("headset").currentTime, 4);
  near(of("display-1").currentTime, 3.5);
  near(of("system").currentTime, 0.25 + 4 * 1.0001);
  player.step(2);
  near(view.at, 4 + 2 / 30);
  near(of("headset").currentTime, view.at);
});

test("it ends with the take or with what is marked, and goes round where that is wanted", () => {
  const { player, view, pass, of } = played();
  view.go(9.5);
  player.toggle();
  pass(0.6);
  assert.equal(player.playing, false);
  assert.equal(view.at, 10);
  // From its end on it begins anew.
  player.toggle();
  near(of("headset").currentTime, 0);
  pass(0.1);
  player.toggle();
  view.mark(3, 5);
  player.setLoop(true);
  player.toggle();
  near(of("headset").currentTime, 3);
  pass(1.9);
  near(view.at, 4.9);
  pass(0.2);
  assert.equal(player.playing, true);
  near(view.at, 3);
  near(of("headset").currentTime, 3);
});

test("a plan that fails stops what plays; Play begins it anew", () => {
  const { player, of, pass } = played(PLAN);
  player.toggle();
  pass(0.1);
  Object.assign(of("program"), { paused: true, failed: true });
  pass(0);
  assert.equal(player.playing, false);
  player.refresh();
  assert.equal(of("program").paused, true);
  of("program").failed = false;
  player.toggle();
  assert.equal(of("program").paused, false);
  pass(0.1);
  assert.equal(player.playing, true);
});

test("a loop that goes round while a picture is drawn is not set back", () => {
  const { player, view, of, pass } = played(PLAN);
  view.mark(3, 5);
  player.setLoop(true);
  player.toggle();
  const leader = of("program");
  pass(0.1);
  const before = leader.set.length;
  // Whenever it is asked it is a little further, over the end of the loop.
  let at = 4.9997;
  Object.defineProperty(leader, "currentTime", {
    get() {
      at = at + 0.0002 > 5 ? 3 : at + 0.0002;
      return at;
    },
    set() {
      leader.set.push(at);
    },
  });
  for (let n = 0; n < 5; n += 1) pass(0);
  assert.equal(leader.set.length, before);
  assert.equal(player.playing, true);
});

test("a plan goes round by itself, but for what is too short", () => {
  const { player, view, of, pass } = played(PLAN);
  view.mark(3, 5);
  player.setLoop(true);
  player.toggle();
  pass(0.1);
  assert.deepEqual(of("program").stretch, [3, 5]);
  view.mark(3, 3.1);
  pass(0.01);
  assert.equal(of("program").stretch, null);
  player.toggle();
  assert.equal(of("program").stretch, null);
});

test("what plays from its plan goes on so while its file comes; then the file takes over", () => {
  const { player, data, of, pass } = played(PLAN);
  player.toggle();
  const plan = of("program");
  data.now = { ...data.now, program: "/program.mp4", plan: "" };
  player.refresh();
  pass(0.5);
  assert.equal(of("program"), plan);
  assert.equal(plan.paused, false);
  player.toggle();
  assert.ok(plan.removed);
  assert.equal(of("program").localName, "video");
  near(of("program").currentTime, 0.5);
});

test("what is heard and seen is chosen while it plays", () => {
  const { player, of } = played(PLAN);
  player.toggle();
  player.choose(() => player.choice.alone("headset"));
  assert.equal(of("headset").paused, false);
  assert.deepEqual([of("program").muted, of("headset").muted], [true, false]);
  player.choose(() => player.choice.see("display-1"));
  assert.deepEqual([of("program").hidden, of("display-1").hidden], [true, false]);
  assert.equal(of("program").paused, true);
  player.setRate(1.5);
  assert.equal(of("headset").playbackRate, 1.5);
});
