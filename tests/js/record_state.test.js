import assert from "node:assert/strict";
import test from "node:test";

import {
  figures,
  health,
  isTaking,
  lengthLeft,
  minutes,
  newestCues,
  nextStep,
  stepState,
  titleOf,
  wouldLose,
} from "../../src/kettle_web/static/kettle/js/lib/record_state.js";

const take = {
  elapsed_s: 75.24,
  take_s: 70.24,
  size_bytes: 12.4e6,
  head_room: 0.3,
  left_s: 5400,
  worst_late_ms: 3,
  trouble: [],
  tracks: {},
};

test("figures have their units and leave out what is not known", () => {
  assert.equal(figures(take), "12.4 MB · room for 90 min · 30 % head-room");
  assert.equal(figures({ ...take, left_s: null, elapsed_s: 0.5, marks: 1 }), "12.4 MB · 1 mark");
  assert.equal(lengthLeft(89.9), "89 s");
  assert.equal(lengthLeft(7300), "2 h");
  assert.equal(minutes(61.999), "1:01");
});

test("all is well until something is said or the disk is nearly full", () => {
  assert.deepEqual(health(take), { words: "All is well", state: "good" });
  assert.equal(health({ ...take, paused: true }).words, "All is well, paused");
  assert.equal(health({ ...take, trouble: ["Desk webcam: …"] }).state, "look");
  assert.equal(health({ ...take, left_s: 400 }).state, "look");
  const away = health({ ...take, trouble: ["…"], away: ["headset"], ended: ["webcam-1"] });
  assert.deepEqual(away, { words: "A device is away", state: "fault" });
  const ended = health({ ...take, trouble: ["…"], ended: ["webcam-1"] });
  assert.deepEqual(ended, { words: "A track has ended", state: "fault" });
});

test("the title says that it records, and how to stop", () => {
  assert.equal(titleOf("watching", undefined, "Bench rig", "S"), "Record · Bench rig");
  assert.equal(titleOf("recording", take, "Bench rig", "S"), "● 0:01:10 · S stops · Bench rig");
  assert.match(titleOf("recording", { ...take, paused: true }, "B", "S"), /paused/);
  assert.ok(isTaking("countdown") && isTaking("finishing") && !isTaking("watching"));
});

test("what would be lost is named", () => {
  assert.equal(wouldLose({ ...take, marks: 2 }), "1:10 of this take, 12.4 MB with 2 marks,");
  assert.equal(wouldLose(undefined), "What was recorded of this take");
});

test("steps are done, now or ahead, by their ids", () => {
  const ids = ["a", "b", "c"];
  assert.equal(stepState(ids, "a", take).state, "ahead");
  const now = { ...take, step_id: "b", step_s: 84.2 };
  assert.deepEqual(
    ids.map((id) => stepState(ids, id, now)),
    [
      { state: "done", spent: "" },
      { state: "now", spent: "1:24" },
      { state: "ahead", spent: "" },
    ],
  );
  assert.equal(nextStep(ids, take), "a");
  assert.equal(nextStep(ids, now), "c");
  assert.equal(nextStep(ids, { ...take, step_id: "c" }), undefined);
});

test("what was told before the answer to a press is left out", () => {
  const newest = newestCues();
  assert.ok(newest.isNew({ cues: 3, elapsed_s: 9.8 }));
  // The answer to a press, which tells of no time, then a status from before it.
  assert.ok(newest.isNew({ cues: 4 }));
  assert.ok(!newest.isNew({ cues: 3, elapsed_s: 10 }));
  assert.ok(newest.isNew({ cues: 4, elapsed_s: 10.2 }));
  // Begun over, or another take.
  assert.ok(newest.isNew({ cues: 1, elapsed_s: 0.2 }));
  newest.forget();
  assert.ok(newest.isNew({ cues: 0 }));
});
