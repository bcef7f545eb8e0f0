import { timeLeft } from "../lib/format.js";

const EVERY_MS = 500;

/**
 * Follows a take that is recorded or composed and reloads the page when that has ended.
 * @param {HTMLElement} root carries the address in data-progress
 */
export function mount(root) {
  const stop = new AbortController();
  const bar = root.querySelector("progress");
  const words = root.querySelector("[data-progress-words]");
  const figures = root.querySelector("[data-progress-figures]");
  const fact = document.querySelector("[data-program-words]");
  let timer = 0;

  const look = async () => {
    try {
      const answer = await fetch(root.dataset.progress ?? "", { signal: stop.signal });
      const progress = await answer.json();
      const begun = root.dataset.state === "none" && progress.state !== "none";
      if (begun || progress.state === "done" || progress.state === "failed") {
        location.reload();
        return;
      }
      if (bar) bar.value = progress.percent;
      if (fact) fact.textContent = progress.words;
      if (words) words.textContent = `The program ${progress.says}.`;
      if (figures) {
        figures.textContent = [`${progress.percent} %`, timeLeft(progress.left_s)]
          .filter(Boolean)
          .join(" · ");
      }
    } catch {
      if (stop.signal.aborted) return;
      if (figures) figures.textContent = "Vast Kettle does not answer; the page keeps asking.";
    }
    timer = window.setTimeout(look, EVERY_MS);
  };

  timer = window.setTimeout(look, EVERY_MS);
  return {
    destroy() {
      stop.abort();
      window.clearTimeout(timer);
    },
  };
}
