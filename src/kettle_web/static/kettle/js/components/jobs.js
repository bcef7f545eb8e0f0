import { timeLeft } from "../lib/format.js";
import { refresh } from "../lib/page.js";

const EVERY_MS = 600;
/** The count of those that are not over, and those as they are shown. */
const COUNT = "[data-jobs]";
const OPEN = "[data-job]:is([data-state=waiting], [data-state=running])";

/**
 * Follows the jobs that a page shows (data-job) or counts (data-jobs) while any of them runs, and
 * shows the page as it is when one has ended. One that ended while the page was made may be shown
 * and not counted.
 */
export function mount() {
  const stop = new AbortController();
  let timer = 0;
  let asking = false;

  const runs = () => document.querySelector(`${COUNT}, ${OPEN}`) !== null;

  const look = async () => {
    asking = true;
    try {
      const answer = await fetch("/jobs/", {
        headers: { Accept: "application/json" },
        signal: stop.signal,
      });
      const { jobs, active } = await answer.json();
      const count = /** @type {HTMLElement | null} */ (document.querySelector(COUNT));
      const counted = Number(count?.dataset.jobs ?? 0);
      const ended = jobs.map(draw).some(Boolean);
      if (ended || active !== counted) await refresh(true);
    } catch {
      if (stop.signal.aborted) return;
    }
    asking = false;
    follow();
  };

  const follow = () => {
    window.clearTimeout(timer);
    if (runs() && !asking) timer = window.setTimeout(look, EVERY_MS);
  };

  document.addEventListener("parts:swapped", follow, { signal: stop.signal });
  follow();
  return {
    destroy() {
      stop.abort();
      window.clearTimeout(timer);
    },
  };
}

/**
 * Shows how far a job is where the page shows it; gives whether it ended since.
 * @param {{id: number, state: string, words: string, percent: number, total: number,
 *   left_s: number | null, is_over: boolean}} job
 */
function draw(job) {
  const place = /** @type {HTMLElement | null} */ (
    document.querySelector(`[data-job="${job.id}"]`)
  );
  if (!place) return false;
  if (job.state !== place.dataset.state) return true;
  const bar = /** @type {HTMLProgressElement | null} */ (place.querySelector("[data-job-bar]"));
  const figures = place.querySelector("[data-job-figures]");
  if (bar) bar.value = job.percent;
  if (figures && job.total)
    figures.textContent = [`${job.percent} %`, timeLeft(job.left_s)].filter(Boolean).join(" · ");
  const words = place.querySelector("[data-job-words]");
  if (words && job.words) words.textContent = job.words;
  return false;
}
