import assert from "node:assert/strict";
import test from "node:test";
import { cutData } from "../../src/kettle_web/static/kettle/js/components/cut_data.js";
import { cutViews } from "../../src/kettle_web/static/kettle/js/components/cut_views.js";
import { takeData } from "../../src/kettle_web/static/kettle/js/components/take_data.js";

const STEP_BYTES = 6;

/** A step of a waveform: least, greatest, RMS. */
const wave = (count, loud = 8000) =>
  Int16Array.from({ length: 3 * count }, (_, n) => [-loud, loud, loud / 2][n % 3]);

const track = (more = {}) => ({
  ...{ name: "headset", is_picture: false, shift_s: 0, gaps: [], clips: [], levels: [] },
  ...{ levels_at: "/levels", fine_at: "/fine", ...more },
});

const take = (length_s, more = {}) => ({
  ...{ revision: 1, length_s, fps: 30, pieces: [[0, 0]], ink: "headset", tracks: [track()] },
  ...{ marks: [], cues: [], steps: [], scenes: [], quiet: [], happened: [], ...more },
});

const piece = (id, of, from_s, until_s, at_s, end_s, more = {}) => ({
  ...{ id, take: of, card: "", file: false, from_s, until_s, at_s, end_s },
  ...{ out: false, speed: 1, laid_s: from_s, words: "", fades_ms: [0, 0], ...more },
});

const cuts = (pieces, more = {}) => ({
  ...{ revision: 2, fps: 30, plan: "/live", frame: [1920, 1080], pieces },
  length_s: pieces.at(-1)?.end_s ?? 0,
  takes: { a: { name: "Take 1", overview: "/a", page: "/takes/1/" } },
  ...more,
});

/** What the server says by address, and what was asked of it. */
function served(t, answers) {
  const asked = [];
  t.mock.method(globalThis, "fetch", async (address, { headers } = {}) => {
    asked.push([address, headers?.Range ?? ""]);
    const answer = answers[address.split("?")[0]];
    if (answer === undefined) return { ok: false };
    return { ok: true, json: async () => answer, arrayBuffer: async () => answer };
  });
  return asked;
}

const assembly = (now, came = () => {}) => cutData(() => now.cuts, came);

test("what is said of a take stands on the lines wherever pieces of it lie", async (t) => {
  const first = take(20, {
    steps: [
      { at_s: 0, words: "Greeting" },
      { at_s: 12, words: "Folding" },
    ],
    scenes: [
      { at_s: 0, words: "Title", scene: "s3", cue: "c1" },
      { at_s: 5, words: "Bench" },
    ],
    marks: [{ id: "m1", at_s: 13, until_s: null, text: "good" }],
    quiet: [
      [1, 3],
      [9, 11],
    ],
    pieces: [
      [0, 0],
      [14, 16],
    ],
  });
  served(t, { "/a": first });
  // From 2 s on, then 10 to 14 s; between them 6 s are out.
  const data = assembly({
    cuts: cuts([
      piece("p1", "a", 2, 4, 0, 2),
      piece("p2", "a", 4, 10, 2, 2, { out: true }),
      piece("p3", "a", 10, 15, 2, 4.5, { speed: 2, words: "× 2" }),
    ]),
  });
  await data.load();
  const { paper } = data;
  assert.equal(paper.length_s, 13);
  assert.deepEqual(paper.steps, [{ at_s: 10, words: "Folding", take: "a" }]);
  assert.deepEqual(paper.marks, [{ at_s: 11, words: "good", take: "a" }]);
  // It begins in a scene that it is not changed to there.
  assert.deepEqual(
    paper.scenes.map(({ at_s, words }) => [at_s, words]),
    [
      [0, "Title"],
      [3, "Bench"],
    ],
  );
  assert.deepEqual(paper.quiet, [
    [0, 1],
    [7, 8],
    [8, 9],
  ]);
  assert.deepEqual(paper.breaks, [12]);
  assert.deepEqual(
    paper.changed.map(({ from, until, out, words }) => [from, until, out, words]),
    [
      [2, 8, true, ""],
      [8, 13, false, "× 2"],
    ],
  );
  // Pieces of a take that follow each other in it have no seam.
  assert.deepEqual(paper.seams, []);
});

test("a version that tells a take otherwise has its own scenes and steps of it", async (t) => {
  served(t, {
    "/a": take(10, {
      scenes: [{ at_s: 0, words: "Title" }],
      steps: [{ at_s: 1, words: "As it was" }],
    }),
  });
  const told = { scenes: [{ at_s: 0, words: "Bench" }], steps: [{ at_s: 2, words: "Otherwise" }] };
  const now = { cuts: cuts([piece("p1", "a", 0, 10, 0, 10)]) };
  const data = assembly(now);
  await data.load();
  assert.deepEqual(
    data.paper.steps.map((one) => one.words),
    ["As it was"],
  );
  now.cuts = { ...now.cuts, takes: { a: { ...now.cuts.takes.a, ...told } } };
  await data.load();
  assert.deepEqual(
    data.paper.steps.map((one) => one.words),
    ["Otherwise"],
  );
  assert.deepEqual(
    data.paper.scenes.map((one) => one.words),
    ["Bench"],
  );
});

test("pieces are there at once, and each take is asked for once", async (t) => {
  const asked = served(t, { "/a": take(10), "/b": take(5) });
  const now = { cuts: cuts([piece("p1", "a", 0, 10, 0, 10)]) };
  let drawn = 0;
  const data = assembly(now, () => {
    drawn += 1;
  });
  const loading = data.load();
  assert.equal(data.rows.length, 1);
  assert.deepEqual(data.paper.steps, []);
  await loading;
  const b = { name: "Take 2", overview: "/b", page: "/takes/2/" };
  now.cuts = cuts([piece("p1", "a", 0, 4, 0, 4), piece("p9", "b", 0, 5, 4, 9)], {
    takes: { ...now.cuts.takes, b },
  });
  const before = drawn;
  await data.load();
  assert.deepEqual(
    asked.map(([address]) => address),
    ["/a", "/b"],
  );
  assert.equal(drawn, before + 2);
  assert.deepEqual(data.paper.seams, [4]);
  await data.loadTakes();
  assert.deepEqual(
    asked.map(([address]) => address),
    ["/a", "/b", "/a", "/b"],
  );
});

test("what is out is a tick where it is folded; cards, fades and what counts as quiet follow", async (t) => {
  served(t, { "/a": take(10, { quiet: [[1, 2]] }) });
  const data = assembly({
    cuts: cuts([
      piece("c1", "card-1", 0, 3, 0, 3, { card: "Planning a signature", fades_ms: [5000, 0] }),
      piece("p1", "a", 0, 4, 3, 7),
      piece("p2", "a", 4, 6, 7, 7, { out: true }),
      piece("p3", "a", 6, 10, 7, 8, { speed: 4, words: "× 4", fades_ms: [0, 250] }),
    ]),
  });
  await data.load();
  assert.deepEqual(data.paper.cards, [{ from: 0, until: 3, words: "Planning a signature" }]);
  assert.deepEqual(data.paper.folds, []);
  data.fold(true);
  assert.equal(data.paper.length_s, 11);
  assert.deepEqual(data.paper.folds, [7]);
  assert.deepEqual(
    data.paper.changed.map(({ from, until }) => [from, until]),
    [[7, 11]],
  );
  // As long as it is seen, which at 4 × is longer on paper; never more than half of its piece.
  assert.deepEqual(data.paper.fades, [
    { from: 0, until: 1.5, into: true },
    { from: 10, until: 11, into: false },
  ]);
  assert.deepEqual(data.paper.quiet, [[4, 5]]);
  data.setQuiet({ a: [[7, 8]] });
  assert.deepEqual(data.paper.quiet, [[8, 9]]);
  data.setQuiet({});
  assert.deepEqual(data.paper.quiet, []);
});

test("the ink at a place is that of the take that lies there", async (t) => {
  const levels = [{ step_s: 0.01, offset: 0, count: 1000 }];
  served(t, {
    "/a": take(10, { tracks: [track({ levels, shift_s: 0.25 })] }),
    "/levels": wave(1000).buffer,
  });
  let came = () => {};
  const data = assembly(
    {
      cuts: cuts([
        piece("c1", "card-1", 0, 3, 0, 3, { card: "Hello" }),
        piece("p1", "a", 2, 8, 3, 9),
      ]),
    },
    () => came(),
  );
  await data.load();
  const inked = new Promise((found) => {
    came = found;
  });
  assert.equal(data.paper.ink(0.02)(5), null);
  await inked;
  const at = data.paper.ink(0.02);
  assert.equal(at(1), null);
  assert.equal(at(5).record, 3.75);
  assert.equal(at(5).step_s, 0.01);
  assert.ok(at(5).grown > 1);
});

test("play heads of lines and program are one; what is out is a place on the lines only", async (t) => {
  served(t, { "/a": take(20) });
  const now = {
    cuts: cuts([
      piece("p1", "a", 0, 4, 0, 4),
      piece("p2", "a", 4, 8, 4, 4, { out: true }),
      piece("p3", "a", 8, 12, 4, 8),
    ]),
  };
  const data = assembly(now);
  const views = cutViews(data);
  await data.load();
  views.relaid();
  assert.deepEqual([views.lines.total, views.program.total], [12, 8]);
  views.lines.go(10);
  assert.equal(views.program.at, 6);
  views.program.go(5, false);
  assert.equal(views.lines.at, 9);
  views.lines.go(6);
  assert.deepEqual([views.lines.at, views.program.at], [6, 4]);
  views.lines.mark(11, 2);
  assert.deepEqual(views.lines.stretch, [2, 11]);
  assert.deepEqual(views.program.stretch, [2, 7]);
  views.lines.forget();
  assert.equal(views.program.stretch, null);
});

test("after a cut the play head stays in the program; what is marked only if the list is the same", async (t) => {
  served(t, { "/a": take(20) });
  const now = { cuts: cuts([piece("p1", "a", 0, 12, 0, 12)]) };
  const data = assembly(now);
  const views = cutViews(data);
  await data.load();
  views.relaid();
  views.program.go(10);
  views.lines.mark(3, 6);
  const before = data.rows;
  now.cuts = cuts([
    piece("p1", "a", 0, 3, 0, 3),
    piece("p2", "a", 3, 6, 3, 3, { out: true }),
    piece("p3", "a", 6, 12, 3, 9),
  ]);
  await data.load();
  views.relaid();
  assert.equal(views.lines.stretch, null);
  assert.deepEqual([views.program.at, views.lines.at], [9, 12]);
  // A take that became longer behind it.
  now.cuts = cuts([piece("p1", "a", 0, 20, 0, 20)]);
  await data.load();
  views.lines.setTotal(20);
  views.lines.mark(3, 6);
  views.relaid(before);
  assert.deepEqual(views.lines.stretch, [3, 6]);
});

/** A sound whose finest level is too large to be fetched whole. */
const LONG = track({
  levels: [
    { step_s: 0.01, offset: 0, count: 100_000 },
    { step_s: 1, offset: 600_000, count: 1000 },
  ],
});

test("waveforms come by range, each part once, and what is coarse whole", async (t) => {
  const asked = served(t, { "/levels": wave(8192).buffer, "/fine": wave(2048).buffer });
  const arrived = [];
  const data = takeData("/take", () => arrived.push(1));
  const settled = () => new Promise((done) => setImmediate(done));
  assert.equal(data.waveform(LONG, 0.02, 100), null);
  assert.equal(data.waveform(LONG, 0.02, 101), null);
  await settled();
  assert.deepEqual(asked, [["/levels", `bytes=${8192 * STEP_BYTES}-${2 * 8192 * STEP_BYTES - 1}`]]);
  assert.equal(data.waveform(LONG, 0.02, 100).part.first, 8192);
  assert.equal(arrived.length, 1);
  data.waveform(LONG, 2, 100);
  await settled();
  assert.deepEqual(asked[1], ["/levels", "bytes=600000-605999"]);
  // Nearer than the survey it is read from the track; until it came what is coarser stands in.
  const near = data.waveform(LONG, 0.001, 100);
  assert.equal(near.step_s, 0.01);
  await settled();
  assert.match(asked[2][0], /^\/fine\?step_ns=\d+&first=\d+&count=2048$/);
  assert.ok(data.waveform(LONG, 0.001, 100).step_s <= 0.001);
  assert.equal(data.waveform(track(), 0.02, 0), null);
  data.destroy();
});

test("a part that could not be had is asked for again", async (t) => {
  let fails = true;
  t.mock.method(globalThis, "fetch", async () => {
    if (fails) throw new TypeError("network");
    return { ok: true, arrayBuffer: async () => wave(8192).buffer };
  });
  const data = takeData("/take", () => {});
  data.waveform(LONG, 0.02, 0);
  await new Promise((done) => setImmediate(done));
  fails = false;
  assert.equal(data.waveform(LONG, 0.02, 0), null);
  await new Promise((done) => setImmediate(done));
  assert.equal(data.waveform(LONG, 0.02, 0).part.first, 0);
});
