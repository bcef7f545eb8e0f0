import { mount as mountJobs } from "../components/jobs.js";
import { mount as mountKeys } from "../components/keys.js";
import { mount as mountLive } from "../components/live.js";
import { mount as mountMachine } from "../components/machine.js";
import { mount as mountOthers } from "../components/other_pages.js";
import { mount as mountSaving } from "../components/saving_forms.js";
import { mount as mountTakeBar } from "../components/take_bar.js";

const live = /** @type {HTMLElement} */ (document.querySelector("[data-live]"));
mountKeys();
mountSaving();
mountJobs();
mountOthers(live);
mountMachine(live);
mountLive(live);
mountTakeBar(live);
const pick = /** @type {HTMLSelectElement | null} */ (document.querySelector("#mix-scene"));
pick?.addEventListener("change", () => pick.form?.submit());
for (const button of pick?.form?.querySelectorAll("button") ?? []) button.hidden = true;
