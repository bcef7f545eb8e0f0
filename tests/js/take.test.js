import assert from "node:assert/strict";
import test from "node:test";
import { TakeView } from "../../src/kettle_web/static/kettle/js/components/take_view.js";
import {
  fineStep,
  growth,
  levelFor,
  partOf,
  seen,
  stripStep,
} from "../../src/kettle_web/static/kettle/js/lib/levels.js";
import {
  folded,
  playMessage,
  SOUND,
  SoundClock,
  samplesOf,
} from "../../src/kettle_web/static/kettle/js/lib/play_message.js";
import { Choice } from "../../src/kettle_web/static/kettle/js/lib/take_choice.js";
import {
  following,
  labels,
  marks,
  ruleTime,
  within,
  zoomed,
} from "../../src/kettle_web/static/kettle/js/lib/take_lanes.js";
import {
  layOut,
  lineLength,
  partsOf,
  placeOf,
  rowsOf,
  timeAt,
} from "../../src/kettle_web/static/kettle/js/lib/take_lines.js";
import {
  fromFile,
  toFile,
  toRecord,
  toTake,
} from "../../src/kettle_web/static/kettle/js/lib/take_time.js";

const near = (/** @type {number} */ a, /** @type {number} */ b) =>
  assert.ok(Math.abs(a - b) < 1e-9, `${a} is not ${b}`);

test("pauses are closed in take time and there in record time", () => {
  /** @type {[number, number][]} */
  const pieces = [
    [0, 0],
    [10, 25],
    [12, 40],
  ];
  for (const [take, record] of [
    [0, 0],
    [9.5, 9.5],
    [10, 25],
    [11, 26],
    [15, 43],
  ]) {
    near(toRecord(pieces, take), record);
    near(toTake(pieces, record), take);
  }
  // Within a pause it is where the pause was closed.
  near(toTake(pieces, 20), 10);
  near(toTake(pieces, 39), 12);
  near(toTake([], 3), 3);
});

test("files are found by the clock's straight parts, moved as by hand, and back", () => {
  /** @type {[number, number, number][]} */
  const knots = [
    [-0.02, 0, 1.0001],
    [60, 60.026, 0.9999],
  ];
  for (const record of [1, 12.5, 60, 100]) {
    near(fromFile(knots, toFile(knots, record, 0.25), 0.25), record);
  }
  near(toFile(knots, 0, 0), 0.02 * 1.0001);
  assert.equal(toFile(knots, -5, 0), 0);
});

test("a level's step is never longer than a px, and what it stands for is bounded", () => {
  const levels = [5, 20, 80].map((ms, n) => ({ step_s: ms / 1000, offset: n, count: 9 }));
  assert.equal(levelFor(levels, 0.001), 0);
  assert.equal(levelFor(levels, 0.03), 1);
  assert.equal(levelFor(levels, 9), 2);
  const values = new Int16Array([-100, 200, 50, -300, 100, 50, 0, 32767, -2]);
  const part = partOf(values.buffer, 10);
  const both = seen(part, 0.02, 0.2, 0.24);
  assert.deepEqual(both?.slice(0, 2), [-300 / 32767, 200 / 32767]);
  near(/** @type {number[]} */ (both)[2], 50 / 32767);
  // The RMS has no sign: -2 is 65534.
  near(/** @type {number[]} */ (seen(part, 0.02, 0.24, 0.26))[2], 65534 / 32767);
  assert.equal(seen(part, 0.02, 0.0, 0.1), null);
  assert.equal(seen(part, 0.02, 0.3, 0.4), null);
  assert.ok(growth(part) >= 1);
});

test("nearer than the survey steps are halved down to a sample", () => {
  assert.equal(fineStep(0.005, 0.005), 0);
  assert.equal(fineStep(0.004, 0.005), 2_500_000);
  assert.equal(fineStep(0.0011, 0.005), 625_000);
  assert.equal(fineStep(0.000001, 0.005), 39_063);
});

test("a whole take is seen at once, in lines of the same length", () => {
  assert.deepEqual([24, 150, 151, 600, 4000].map(lineLength), [15, 15, 30, 60, 60]);
  const layout = layOut(40, [{ at_s: 16, words: "Fold" }], [{ at_s: 0, words: "Sheet" }]);
  assert.equal(layout.lines.length, 3);
  assert.deepEqual(layout.lines[1].heads, [{ at_s: 16, words: "Fold" }]);
  assert.ok(layout.lines[0].base > layout.lines[0].top);
  assert.ok(layout.lines[2].base === layout.lines[2].top);
  assert.equal(layout.lines[2].until, 40);
  for (const at of [0, 7.5, 15, 29.9, 39]) {
    const place = placeOf(layout, at);
    near(timeAt(layout, place.x, place.line.base + 1, 40), at);
  }
  assert.equal(timeAt(layout, 1, 9999, 40), 40);
});

test("a stretch goes on across the ends of lines", () => {
  const layout = layOut(40, [], []);
  const parts = partsOf(layout, 10, 32);
  assert.equal(parts.length, 3);
  near(parts.reduce((sum, part) => sum + part.until - part.from, 0) * layout.length, 22);
  assert.equal(partsOf(layout, 5, 5).length, 0);
});

test("lanes stay within the take and zoom about a time", () => {
  assert.deepEqual(within(-3, 5, 40), { from: 0, length: 5 });
  assert.deepEqual(within(38, 5, 40), { from: 35, length: 5 });
  assert.deepEqual(within(0, 99, 40), { from: 0, length: 40 });
  const shown = zoomed({ from: 10, length: 8 }, 0.5, 12, 40);
  near((12 - shown.from) / shown.length, (12 - 10) / 8);
  assert.equal(zoomed({ from: 0, length: 0.02 }, 0.1, 0, 40).length, 0.02);
  const same = { from: 10, length: 8 };
  assert.equal(following(same, 12, 40), same);
  assert.ok(following(same, 19, 40).from > 10);
  near(following(same, 1, 40).from, 0.2);
});

test("the rule's marks are round and as exact as they must be", () => {
  const { step, times } = marks({ from: 69.2, length: 5 }, 750);
  assert.equal(step, 1);
  assert.deepEqual(times, [70, 71, 72, 73, 74]);
  assert.equal(ruleTime(71.25, 0.05), "1:11.25");
  assert.equal(ruleTime(3671, 1), "1:01:11");
  assert.equal(ruleTime(59.9996, 0.1), "1:00.0");
});

const TRACKS = [
  { name: "screen", is_picture: true, kind: "display", play: "/screen" },
  { name: "desk", is_picture: true, kind: "webcam", play: "/desk" },
  { name: "voice", is_picture: false, kind: "microphone", play: "/voice" },
  { name: "system", is_picture: false, kind: "system-audio", play: "/system" },
  { name: "gone", is_picture: false, kind: "microphone", play: "" },
];

test("without a program its tracks stand in for it, and it takes over when nobody chose", () => {
  const choice = new Choice();
  choice.offer(TRACKS, false);
  assert.deepEqual(choice.names, ["voice", "system", "screen"]);
  choice.offer(TRACKS, true);
  assert.deepEqual([choice.names, choice.seen], [["program"], "program"]);
  const made = new Choice();
  made.offer(TRACKS, false);
  made.isMade = true;
  made.alone("voice");
  made.offer(TRACKS, true);
  assert.deepEqual(made.names, ["voice", "screen"]);
});

test("a track is heard alone, left out of the others, and seen beside any of them", () => {
  const choice = new Choice();
  choice.offer(TRACKS, true);
  choice.mute("system");
  assert.deepEqual(
    [choice.hears("voice"), choice.hears("system"), choice.hears()],
    [true, false, false],
  );
  choice.mute("system");
  assert.equal(choice.hears("system"), true);
  choice.alone("system");
  assert.ok(choice.isAlone("system") && !choice.isAlone("voice"));
  choice.see("desk");
  assert.deepEqual(choice.names, ["system", "desk"]);
  choice.toProgram();
  assert.deepEqual(choice.names, ["program"]);
  // The program's picture with one track: the program leads.
  choice.alone("voice");
  assert.deepEqual(choice.names, ["program", "voice"]);
  assert.equal(choice.hears("program"), false);
});

test("as they came are tracks: the webcam with its sounds, until the program is asked for", () => {
  const choice = new Choice();
  choice.offer(TRACKS, true);
  choice.came();
  assert.deepEqual([choice.asCame, choice.names], [true, ["voice", "system", "desk"]]);
  choice.came();
  assert.deepEqual([choice.asCame, choice.seen], [false, "desk"]);
  choice.came();
  choice.toProgram();
  assert.equal(choice.asCame, false);
});

test("where one is stays within the take, and only what somebody asked for says so", () => {
  const view = new TakeView();
  view.setTotal(20);
  /** @type {boolean[]} */
  const told = [];
  view.addEventListener("at", (event) => told.push(/** @type {CustomEvent} */ (event).detail));
  view.go(99);
  view.go(-1, false);
  assert.deepEqual([view.at, told], [0, [true, false]]);
  view.mark(30, 5);
  assert.deepEqual(view.stretch, [5, 20]);
  view.mark(5, 5);
  assert.equal(view.stretch, null);
  view.go(19);
  assert.ok(view.near.from + view.near.length <= 20 && view.near.from + view.near.length >= 19);
  view.setTotal(3);
  assert.deepEqual([view.at, view.near], [3, { from: 0, length: 3 }]);
});

test("labels of one moment are joined and none covers the next", () => {
  const found = labels(
    [
      [0, "Title"],
      [3, "Display hidden"],
      [90, "Sheet"],
    ],
    400,
  );
  assert.deepEqual(found, [
    [0, "Title · Display hidden", 90],
    [90, "Sheet", 400],
  ]);
});

test("sound laid end to end is a clock that waits for what comes late", () => {
  const clock = new SoundClock(10, 2);
  assert.equal(clock.lay(4800, 1, 0.5), 1.5);
  assert.equal(clock.lay(4800, 1.1, 0.5), 1.6);
  assert.equal(clock.at(1.4), 10);
  assert.ok(Math.abs(clock.at(1.6) - 10.2) < 1e-9);
  // Only 0.2 s are there: it stands at their end, and goes on from there.
  assert.ok(Math.abs(clock.at(9) - 10.4) < 1e-9);
  assert.equal(clock.lay(4800, 9, 0.5), 9.5);
  assert.ok(Math.abs(clock.at(9.5) - 10.4) < 1e-9);
  assert.ok(Math.abs(clock.at(9.55) - 10.5) < 1e-9);
});

test("a time that runs on lies in the loop, again and again", () => {
  const at = (time) => Math.round(folded(time, [2, 3.5]) * 1e6) / 1e6;
  assert.deepEqual([1, 2, 3.4, 3.5, 5.2, 6.6].map(at), [1, 2, 3.4, 2, 2.2, 2.1]);
  assert.equal(folded(9, null), 9);
});

test("a player's message has its kind, turn, time and body", () => {
  const bytes = new Uint8Array(13 + 8);
  const head = new DataView(bytes.buffer);
  head.setUint8(0, SOUND);
  head.setUint32(1, 7, true);
  head.setFloat64(5, 1.25, true);
  head.setInt16(13, 16384, true);
  head.setInt16(15, -32768, true);
  const message = playMessage(bytes.buffer);
  assert.deepEqual([message.kind, message.turn, message.at], [SOUND, 7, 1.25]);
  const [left, right] = samplesOf(message.body);
  assert.deepEqual([left[0], right[0], left.length], [0.5, -1, 2]);
});

test("small pictures are read nearer where they stand for less than half of what the survey has", () => {
  assert.equal(stripStep(0.8, 1), 0);
  assert.equal(stripStep(0.5, 1), 0.25);
  assert.equal(stripStep(0.1, 1), 0.0625);
  assert.equal(stripStep(0.001, 1), 1 / 64);
  assert.equal(stripStep(3, 9), 0);
  assert.equal(stripStep(0.4, 9), 0.25);
});

test("words at one place stand above each other, those further on in the first row again", () => {
  const word = (left, right, line = "1px") => ({ line, left, right });
  const words = [word(0, 40), word(10, 60), word(12, 30), word(70, 90), word(11, 50, "99px")];
  assert.deepEqual(rowsOf(words), [0, 1, 2, 0, 0]);
  // The order in which they are told is not that of their places.
  assert.deepEqual(rowsOf([word(10, 60), word(0, 40)]), [1, 0]);
});
