import { mount as mountStates } from "../components/input_states.js";
import { mount as mountKeys } from "../components/keys.js";
import { mount as mountStrips } from "../components/level_strips.js";
import { mount as mountLive } from "../components/live.js";
import { mount as mountMachine } from "../components/machine.js";
import { mount as mountPictures } from "../components/pictures.js";
import { mount as mountSaving } from "../components/saving_forms.js";
import { mount as mountSheet } from "../components/sheet.js";

const live = /** @type {HTMLElement} */ (document.querySelector("[data-live]"));
mountKeys();
mountSaving();
mountSheet(/** @type {HTMLFormElement} */ (document.querySelector("[data-order]")));
mountMachine(live);
mountStates(live);
mountStrips(live);
mountLive(live);
mountPictures(live);
