import { mount as mountAfter } from "../components/after_strip.js";
import { mount as mountBalance } from "../components/balance.js";
import { mount as mountEarTest } from "../components/ear_test.js";
import { mount as mountJobs } from "../components/jobs.js";
import { mount as mountKeys } from "../components/keys.js";
import { mount as mountStrips } from "../components/level_strips.js";
import { mount as mountListening } from "../components/listening.js";
import { mount as mountLive } from "../components/live.js";
import { mount as mountMachine } from "../components/machine.js";
import { mount as mountMonitor } from "../components/monitor.js";
import { mount as mountOthers } from "../components/other_pages.js";
import { mount as mountSaving } from "../components/saving_forms.js";
import { mount as mountTakeBar } from "../components/take_bar.js";

const live = /** @type {HTMLElement} */ (document.querySelector("[data-live]"));
mountKeys();
mountSaving();
mountJobs();
mountOthers(live);
mountMachine(live);
mountStrips(live);
mountLive(live);
mountTakeBar(live);
mountAfter(live);
const monitor = /** @type {HTMLInputElement | null} */ (document.querySelector("[data-monitor]"));
if (monitor) mountMonitor(live, monitor);
mountBalance(/** @type {HTMLElement} */ (document.querySelector("[data-balance]")));

// It is kept when parts are exchanged: changing a step does not end the listening.
mountListening(/** @type {HTMLFormElement} */ (document.querySelector("[data-listen]")));

/** @type {{destroy: () => void} | null} */
let ears = null;
const mountEars = () => {
  ears?.destroy();
  const found = document.querySelector("[data-ear-test]");
  ears = found && mountEarTest(/** @type {HTMLElement} */ (found));
};
document.addEventListener("parts:swapped", mountEars);
mountEars();
