import { mount as mountJobs } from "../components/jobs.js";
import { mount as mountKeys } from "../components/keys.js";
import { mount as mountTimes } from "../components/local_times.js";
import { mount as mountPlayer } from "../components/player.js";
import { mount as mountSaving } from "../components/saving_forms.js";

mountKeys();
mountSaving();
mountJobs();
mountTimes();
/** @type {{destroy: () => void} | null} */
let player = null;
const mountFound = () => {
  const found = document.querySelector("[data-player]");
  if (found && !player) player = mountPlayer(/** @type {HTMLVideoElement} */ (found));
};
document.addEventListener("parts:swapped", mountFound);
mountFound();
