import { mount as mountJobs } from "../components/jobs.js";
import { mount as mountTimes } from "../components/local_times.js";
import { mount as mountSaving } from "../components/saving_forms.js";

mountSaving();
mountJobs();
mountTimes();
