import { mount as mountKeys } from "../components/keys.js";
import { mount as mountStrips } from "../components/level_strips.js";
import { mount as mountLive } from "../components/live.js";
import { mount as mountMachine } from "../components/machine.js";
import { mount as mountPictures } from "../components/pictures.js";
import { mount as mountSaving } from "../components/save_on_change.js";

const HEARS_ABOVE_DBFS = -50;
const live = /** @type {HTMLElement} */ (document.querySelector("[data-live]"));

/** @param {string} name @param {string} words @param {string} state */
function say(name, words, state) {
  const cell = /** @type {HTMLElement | null} */ (
    document.querySelector(`[data-input-state="${name}"]`)
  );
  if (!cell || cell.textContent === words) return;
  cell.textContent = words;
  cell.dataset.state = state;
}

mountKeys();
mountMachine(live);
mountPictures(live, (name) => say(name, "live", "live"));
mountStrips(live, (name, level) => {
  const hears = level.held_dbfs > HEARS_ABOVE_DBFS;
  say(name, hears ? "hears something" : "quiet", hears ? "live" : "");
});
for (const form of document.querySelectorAll("form[data-save-on-change]")) {
  mountSaving(/** @type {HTMLFormElement} */ (form));
}
live.addEventListener("live:status", (event) => {
  const { state } = /** @type {CustomEvent} */ (event).detail;
  if (!["absent", "lost", "failed"].includes(state)) return;
  for (const cell of document.querySelectorAll("[data-input-state]")) {
    say(/** @type {HTMLElement} */ (cell).dataset.inputState ?? "", "not shown", "fault");
  }
});
mountLive(live);
