import { mount as mountJobs } from "../components/jobs.js";
import { mount as mountKeys } from "../components/keys.js";
import { mount as mountLive } from "../components/live.js";
import { mount as mountTimes } from "../components/local_times.js";
import { mount as mountNear } from "../components/near_frame.js";
import { mount as mountOthers } from "../components/other_pages.js";
import { mount as mountSaving } from "../components/saving_forms.js";
import { mount as mountControls } from "../components/take_controls.js";
import { takeData } from "../components/take_data.js";
import { mount as mountLanes } from "../components/take_lanes.js";
import { mount as mountLines } from "../components/take_lines.js";
import { mount as mountPlayer } from "../components/take_player.js";
import { mount as mountStage } from "../components/take_stage.js";
import { TakeView } from "../components/take_view.js";
import { refresh } from "../lib/page.js";
import { paperOfTake } from "../lib/take_paper.js";
import { placeIn } from "../lib/take_place.js";

const live = /** @type {HTMLElement} */ (document.querySelector("[data-live]"));
mountKeys();
mountSaving();
mountJobs();
mountTimes();
mountOthers(live);
mountLive(live);
live.addEventListener("live:again", () => refresh(true));

const found = (/** @type {string} */ name) =>
  /** @type {HTMLElement | null} */ (document.querySelector(name));
const [lines, lanes, place] = ["[data-lines]", "[data-lanes]", "[data-take-player]"].map(found);
if (lines && lanes && place) {
  const view = new TakeView();
  const kept = placeIn(location.pathname.split("/")[2] ?? "");
  /** @type {{draw: () => void}[]} */
  const drawn = [];
  const data = takeData(lines.dataset.lines ?? "", () => {
    for (const one of drawn) one.draw();
  });
  drawn.push(
    mountLines(lines, () => paperOfTake(data), view),
    mountLanes(lanes, data, view),
  );
  lines.addEventListener("cue:moves", (event) => {
    const { data: asked, at } = /** @type {CustomEvent} */ (event).detail;
    asked.set("at_s", at.toFixed(6));
  });
  const player = mountPlayer(place, data, view);
  mountNear(/** @type {SVGSVGElement} */ (place.querySelector("[data-near-frame]")), player);
  const svg = /** @type {SVGSVGElement} */ (place.querySelector("[data-stage]"));
  mountControls(player, view, data, mountStage(svg, player, view));
  const load = async () => {
    await data.load();
    if (!data.now) return;
    if (view.total !== data.now.length_s) {
      const isFirst = !view.total;
      view.setTotal(data.now.length_s);
      if (isFirst && kept.at) view.go(kept.at);
    }
    player.refresh();
    document.body.dataset.ready = "take";
  };
  document.addEventListener("parts:swapped", load);
  window.addEventListener("pagehide", () => {
    kept.at = view.at;
  });
  load();
}
