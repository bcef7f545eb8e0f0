import { mount as mountCount } from "../components/count_sound.js";
import { mount as mountStates } from "../components/input_states.js";
import { mount as mountJobs } from "../components/jobs.js";
import { mount as mountKeys } from "../components/keys.js";
import { mount as mountStrips } from "../components/level_strips.js";
import { mount as mountLive } from "../components/live.js";
import { mount as mountMachine } from "../components/machine.js";
import { mount as mountOthers } from "../components/other_pages.js";
import { mount as mountPictures } from "../components/pictures.js";
import { mount as mountDesk } from "../components/record_desk.js";
import { mount as mountOrders } from "../components/record_orders.js";
import { mount as mountStage } from "../components/record_stage.js";

const live = /** @type {HTMLElement} */ (document.querySelector("[data-live]"));
for (const button of document.querySelectorAll("[data-without-script]")) {
  /** @type {HTMLElement} */ (button).hidden = true;
}
mountKeys();
mountJobs();
mountMachine(live);
mountPictures(live);
mountStrips(live);
mountStates(live);
mountCount(live);
mountOrders();
mountStage(document.querySelector("[data-stage]"));
mountDesk(live);
mountOthers(live);
mountLive(live);
