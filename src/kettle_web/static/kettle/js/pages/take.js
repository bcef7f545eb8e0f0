import { mount as mountJobs } from "../components/jobs.js";
import { mount as mountKeys } from "../components/keys.js";
import { mount as mountTimes } from "../components/local_times.js";
import { mount as mountPlayer } from "../components/player.js";
import { mount as mountSaving } from "../components/saving_forms.js";
import { mount as mountTogether } from "../components/together.js";

mountKeys();
mountSaving();
mountJobs();
mountTimes();
/** @type {{destroy: () => void} | null} */
let player = null;
/** @type {ReturnType<typeof mountTogether> | null} */
let together = null;
const mountFound = () => {
  const tracks = /** @type {HTMLElement | null} */ (document.querySelector("[data-together]"));
  if (tracks && !together) together = mountTogether(tracks);
  const found = /** @type {HTMLVideoElement | null} */ (document.querySelector("[data-player]"));
  if (!found || player) return;
  player = mountPlayer(found);
  // What was played from its tracks goes on as the program.
  const place = together?.place();
  together?.destroy();
  if (place?.at) found.currentTime = place.at;
  if (place?.playing) found.play().catch(() => {});
};
document.addEventListener("parts:swapped", mountFound);
mountFound();
