import { mount as mountJobs } from "../components/jobs.js";
import { mount as mountTimes } from "../components/local_times.js";

mountJobs();
mountTimes();
