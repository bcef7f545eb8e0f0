import { mount as mountFolds } from "../components/folds.js";
import { mount as mountKeys } from "../components/keys.js";
import { mount as mountLive } from "../components/live.js";
import { mount as mountMachine } from "../components/machine.js";
import { mount as mountPictures } from "../components/pictures.js";
import { mount as mountSaving } from "../components/saving_forms.js";
import { mount as mountOrder } from "../components/scene_order.js";
import { mount as mountTable } from "../components/table.js";

const live = /** @type {HTMLElement} */ (document.querySelector("[data-live]"));
mountKeys();
mountSaving();
mountMachine(live);
mountLive(live);
mountPictures(live);
mountFolds();
mountOrder();
mountTable(/** @type {HTMLElement} */ (document.querySelector("[data-table]")), live);
