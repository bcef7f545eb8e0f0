import { mount as mountCards } from "../components/card_pictures.js";
import { mount as mountJobs } from "../components/jobs.js";
import { mount as mountKeys } from "../components/keys.js";
import { mount as mountTimes } from "../components/local_times.js";
import { mount as mountSaving } from "../components/saving_forms.js";
import { whenChosen } from "../lib/choosing.js";

mountKeys();
mountSaving();
mountJobs();
mountTimes();
mountCards();
/** @type {NodeListOf<HTMLSelectElement>} */
const lists = document.querySelectorAll("[data-find] select");
for (const list of lists) whenChosen(list, () => list.form?.submit(), new AbortController().signal);
