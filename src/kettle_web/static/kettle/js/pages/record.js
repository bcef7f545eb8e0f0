import { mount as mountJobs } from "../components/jobs.js";
import { mount as mountKeys } from "../components/keys.js";
import { mount as mountStrips } from "../components/level_strips.js";
import { mount as mountLive } from "../components/live.js";
import { mount as mountMachine } from "../components/machine.js";
import { mount as mountPictures } from "../components/pictures.js";
import { mount as mountDesk } from "../components/record_desk.js";

const live = /** @type {HTMLElement} */ (document.querySelector("[data-live]"));
mountKeys();
mountJobs();
mountMachine(live);
mountPictures(live);
mountStrips(live);
mountDesk(live);
mountLive(live);
