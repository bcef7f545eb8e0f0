import { mount as mountJobs } from "../components/jobs.js";
import { mount as mountKeys } from "../components/keys.js";
import { mount as mountTimes } from "../components/local_times.js";
import { mount as mountSaving } from "../components/saving_forms.js";

const LOOK_EVERY_MS = 1500;

/** Only the fields that mean something for the kind of file that is chosen. */
function showFields() {
  const form = /** @type {HTMLFormElement | null} */ (document.querySelector("[data-own-export]"));
  const kind = form && new FormData(form).get("kind");
  if (!form || typeof kind !== "string") return;
  for (const field of form.querySelectorAll("[data-kinds]")) {
    const { kinds } = /** @type {HTMLElement} */ (field).dataset;
    const row = field.closest(".own-export > div");
    if (row instanceof HTMLElement) row.hidden = !kinds?.split(" ").includes(kind);
  }
}

/** Where exports are that are being made: each picture is shown once it has come. */
function lookAt() {
  for (const place of document.querySelectorAll("[data-export-at]")) {
    const shown = /** @type {HTMLImageElement} */ (place);
    const fresh = new Image();
    fresh.addEventListener("load", () => {
      shown.src = fresh.src;
      shown.hidden = false;
    });
    fresh.src = `${shown.dataset.exportAt}?${Date.now()}`;
  }
}

window.setInterval(lookAt, LOOK_EVERY_MS);
document.addEventListener("change", showFields);
document.addEventListener("parts:swapped", showFields);
showFields();
mountKeys();
mountSaving();
mountJobs();
mountTimes();
document.body.dataset.ready = "export";
