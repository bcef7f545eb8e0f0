import { megabytes } from "../lib/format.js";

/**
 * The machine's state at the top and the sentence when something is wrong.
 * @param {HTMLElement} live the element that tells `live:status`
 */
export function mount(live) {
  const stop = new AbortController();
  const machine = document.querySelector("[data-machine]");
  const notice = /** @type {HTMLElement | null} */ (document.querySelector("[data-live-notice]"));
  live.addEventListener(
    "live:status",
    (event) => {
      const status = /** @type {CustomEvent} */ (event).detail;
      if (machine && status.disk_free_bytes !== undefined) {
        machine.textContent = `${megabytes(status.disk_free_bytes)} of room\nload ${status.load} of ${status.cores}`;
      }
      if (notice) {
        notice.hidden = !status.message;
        if (notice.textContent !== (status.message ?? "")) {
          notice.textContent = status.message ?? "";
        }
      }
    },
    { signal: stop.signal },
  );
  return { destroy: () => stop.abort() };
}
