import { mount as mountJobs } from "../components/jobs.js";
import { mount as mountKeys } from "../components/keys.js";
import { mount as mountTimes } from "../components/local_times.js";
import { mount as mountSaving } from "../components/saving_forms.js";

mountKeys();
mountSaving();
mountJobs();
mountTimes();
document.body.dataset.ready = "export";
