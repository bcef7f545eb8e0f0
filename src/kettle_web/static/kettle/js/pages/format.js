import { mount as mountJobs } from "../components/jobs.js";
import { mount as mountKeys } from "../components/keys.js";
import { mount as mountLive } from "../components/live.js";
import { mount as mountMachine } from "../components/machine.js";
import { mount as mountOthers } from "../components/other_pages.js";
import { mount as mountSaving } from "../components/saving_forms.js";
import { mount as mountSums } from "../components/sums.js";
import { mount as mountTrying } from "../components/trying.js";

const live = /** @type {HTMLElement} */ (document.querySelector("[data-live]"));
mountKeys();
mountSaving();
mountTrying();
mountSums();
mountJobs();
mountOthers(live);
mountMachine(live);
mountLive(live);
