import { mount as mountControls } from "../components/cut_controls.js";
import { cutData } from "../components/cut_data.js";
import { mount as mountLanes } from "../components/cut_lanes.js";
import { cutViews } from "../components/cut_views.js";
import { mount as mountJobs } from "../components/jobs.js";
import { mount as mountKeys } from "../components/keys.js";
import { mount as mountLive } from "../components/live.js";
import { mount as mountNear } from "../components/near_frame.js";
import { mount as mountOthers } from "../components/other_pages.js";
import { mount as mountSaving } from "../components/saving_forms.js";
import { mount as mountPlaying } from "../components/take_controls.js";
import { mount as mountLines } from "../components/take_lines.js";
import { mount as mountPlayer } from "../components/take_player.js";
import { mount as mountStage } from "../components/take_stage.js";
import { inTake, rowAt, toProgram } from "../lib/cut_pieces.js";
import { refresh } from "../lib/page.js";
import { placeIn } from "../lib/take_place.js";

const live = /** @type {HTMLElement} */ (document.querySelector("[data-live]"));
mountKeys();
mountSaving();
mountJobs();
mountOthers(live);
mountLive(live);

const found = (/** @type {string} */ name) =>
  /** @type {HTMLElement} */ (document.querySelector(name));
const root = found("[data-lines]");
/** @type {{draw: () => void}[]} */
const drawn = [];
const data = cutData(
  () => JSON.parse(found("#cuts").textContent ?? ""),
  () => {
    for (const one of drawn) one.draw();
  },
);
const views = cutViews(data);
const kept = placeIn(`assembly-${location.pathname.split("/")[2] ?? ""}`);
drawn.push(
  mountLines(
    root,
    () => data.paper,
    views.lines,
    (at) => toProgram(data.rows, at),
  ),
);
const lanes = mountLanes(found("[data-lanes]"), found("[data-lanes-head]"), data, views);
drawn.push(lanes);

root.addEventListener("cue:moves", (event) => {
  const { data: asked, one, at } = /** @type {CustomEvent} */ (event).detail;
  const row = rowAt(data.rows, at);
  if (!row) return;
  asked.set("take", one.take);
  asked.set("from_piece", row.id);
  asked.set("from_s", inTake(row, at).toFixed(6));
});

/** The program of the cut list, as a player plays it: nothing but a plan. */
const played = {
  get now() {
    const now = data.now;
    if (!now) return null;
    const nothing = { ink: "", tracks: [], marks: [], cues: [], steps: [], scenes: [] };
    const rest = { program: "", surveyed: false, quiet: [], happened: [], pieces: [] };
    return { ...now, ...nothing, ...rest };
  },
};
const player = mountPlayer(found("[data-take-player]"), played, views.program);
const near = /** @type {any} */ (found("[data-near-frame]"));
mountNear(near, player);
const controls = mountControls(data, views, lanes);
const svg = /** @type {any} */ (found("[data-stage]"));
const stage = mountStage(svg, player, views.program);
mountPlaying(player, views.program, played, stage, () => lanes.view);

const load = async () => {
  const before = data.rows;
  const revision = data.now?.revision;
  const isFirst = !views.lines.total;
  const takes = data.load();
  // What is marked stays marked where only something else is another one.
  if (JSON.stringify(data.rows) !== JSON.stringify(before))
    views.relaid(data.now?.revision === revision ? before : null);
  if (isFirst && kept.at) views.program.go(kept.at);
  if (data.now?.frame) near.setAttribute("viewBox", `0 0 ${data.now.frame.join(" ")}`);
  player.refresh();
  controls.refresh();
  document.body.dataset.drawn = String(data.now?.revision ?? 0);
  await takes;
  document.body.dataset.ready = "assembly";
};
document.addEventListener("parts:swapped", load);
live.addEventListener("live:again", async () => {
  await data.loadTakes();
  await refresh(true);
});
window.addEventListener("pagehide", () => {
  kept.at = views.program.at;
});
load();
