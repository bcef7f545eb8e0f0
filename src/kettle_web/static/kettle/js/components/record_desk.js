import { elapsed } from "../lib/format.js";
import { refresh } from "../lib/page.js";
import {
  figures,
  health,
  isTaking,
  newestCues,
  nextStep,
  stepState,
  titleOf,
  WORDS,
  wouldLose,
} from "../lib/record_state.js";

/**
 * Shows how the take stands: phase, figures, health, scenes, what is hidden and muted, steps.
 * @param {HTMLElement} live the element that tells `live:status`
 */
export function mount(live) {
  const stop = new AbortController();
  const desk = /** @type {HTMLElement} */ (document.querySelector("[data-record]"));
  const icon = /** @type {HTMLLinkElement | null} */ (document.querySelector("link[rel=icon]"));
  const newest = newestCues();
  const quietIcon = icon?.href ?? "";
  const all = (/** @type {string} */ selector) =>
    /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll(selector));
  const put = (/** @type {string} */ selector, /** @type {string} */ words) => {
    for (const place of all(selector)) if (place.textContent !== words) place.textContent = words;
  };

  const showPhase = (/** @type {string} */ state, /** @type {any} */ take) => {
    const taking = isTaking(state);
    for (const part of all(".before")) part.hidden = taking;
    for (const part of all(".during")) part.hidden = !taking;
    const { name = "", stopKey = "", icon: alarm = "" } = desk.dataset;
    document.title = titleOf(state, take, name, stopKey);
    if (icon) icon.href = state === "recording" ? alarm : quietIcon;
    desk.dataset.paused = String(state === "recording" && take?.paused === true);
  };

  /** @type {any} */
  let last = { state: desk.dataset.engine };
  const show = (/** @type {any} */ status) => {
    last = status;
    const state = /** @type {keyof typeof WORDS} */ (status.state);
    put("[data-run-word]", status.take?.paused ? "Paused" : (WORDS[state] ?? state));
    // What is recorded goes on without this page, and without an engine for a while; Stop stays.
    const taking = isTaking(desk.dataset.engine ?? "");
    if (state === "lost" || (taking && (state === "absent" || state === "failed"))) return;
    // What was refused before the take is not said of the take.
    if (state === "recording" && desk.dataset.engine === "countdown") fail("");
    desk.dataset.engine = state;
    if (state !== "recording") newest.forget();
    showPhase(state, status.take);
    for (const button of all("[data-start-form] button")) {
      /** @type {HTMLButtonElement} */ (button).disabled = isTaking(state) || state === "absent";
    }
    for (const button of all("[data-stop-form] button")) {
      const pressed = button.dataset.pressed === "true" || state === "finishing";
      /** @type {HTMLButtonElement} */ (button).disabled = pressed;
    }
    if (status.starts_in_s !== undefined) {
      put("[data-count]", String(Math.ceil(status.starts_in_s)));
      const waits = status.waits_for?.join(" and ");
      put("[data-count-words]", waits ? `Waits for ${waits}` : "Recording begins in");
    }
    if (status.take) showTake(status.take);
    if (status.last_take?.state === "failed") fail(status.last_take.notes.join(" "));
  };

  const showTake = (/** @type {import("../lib/record_state.js").Take} */ take) => {
    put("[data-elapsed]", elapsed(take.take_s ?? take.elapsed_s));
    put("[data-figures]", figures(take));
    const how = health(take);
    put("[data-health]", how.words);
    for (const place of all("[data-health]")) place.dataset.state = how.state;
    showTrouble(take.trouble);
    showCues(take);
  };

  const showTrouble = (/** @type {string[]} */ sentences) => {
    const place = /** @type {HTMLElement} */ (document.querySelector("[data-trouble]"));
    const said = sentences.join("\n");
    if (place.dataset.said === said) return;
    place.dataset.said = said;
    place.hidden = sentences.length === 0;
    place.replaceChildren(
      ...sentences.map((sentence) => {
        const line = document.createElement("li");
        line.textContent = sentence;
        return line;
      }),
    );
  };

  /** What cues have come to: an answer to one, or a part of the status. @param {any} take */
  const showCues = (take) => {
    if (!newest.isNew(take)) return;
    for (const button of all("[data-scene].scene-press")) {
      button.setAttribute("aria-pressed", String(button.dataset.scene === take.scene));
    }
    const now = [...all(".scene-press")].find((one) => one.dataset.scene === take.scene);
    const misses = now?.dataset.misses ?? "";
    for (const place of all("[data-misses-words]")) {
      place.hidden = !misses;
      if (misses)
        place.textContent = `${misses} has no track, so the program of this scene is without it.`;
    }
    for (const button of all("[data-turn-off]")) {
      const { list = "", of = "", flag = "", turnOff = "", turnOn = "" } = button.dataset;
      const on = flag ? take[flag] === true : (take[list] ?? []).includes(of);
      press(button, on, on ? turnOn : turnOff);
    }
    for (const button of all("[data-near]")) {
      button.setAttribute("aria-pressed", String((take.near ?? []).length > 0));
    }
    for (const place of all("[data-would-lose]"))
      place.textContent = wouldLose(take.tracks && take);
    showSteps(take);
    document.dispatchEvent(new CustomEvent("record:layers", { detail: take }));
  };

  const press = (
    /** @type {HTMLElement} */ button,
    /** @type {boolean} */ on,
    /** @type {string} */ wanted,
  ) => {
    button.setAttribute("aria-pressed", String(on));
    /** @type {HTMLButtonElement} */ (button).value = wanted;
    const words = /** @type {HTMLElement | null} */ (button.querySelector("[data-words]"));
    const said = on ? words?.dataset.pressedWords : words?.dataset.words;
    if (words && said && words.textContent !== said) words.textContent = said;
  };

  /** The running order was changed elsewhere: the page as it is now has it. */
  const readOrderAgain = (/** @type {any} */ take) => {
    const steps = JSON.stringify(take.steps ?? []);
    if (take.steps && desk.dataset.steps && desk.dataset.steps !== steps) refresh(true);
    if (take.steps) desk.dataset.steps = steps;
  };

  const showSteps = (/** @type {any} */ take) => {
    readOrderAgain(take);
    const rows = [...all("[data-order-step]")];
    const ids = rows.map((row) => row.dataset.orderStep ?? "");
    for (const row of rows) {
      const { state, spent } = stepState(ids, row.dataset.orderStep ?? "", take);
      const over = state === "now" && take.step_s > Number(row.dataset.target || Infinity);
      if (row.dataset.state !== state && state === "now") {
        row.querySelector("button")?.setAttribute("aria-current", "step");
        row.scrollIntoView({ block: "nearest" });
      } else if (state !== "now") row.querySelector("button")?.removeAttribute("aria-current");
      row.dataset.state = state;
      row.dataset.over = String(over);
      const place = row.querySelector("[data-spent]");
      if (place)
        place.textContent = spent ? `${spent}${Number(row.dataset.target) ? " / " : ""}` : "";
    }
    const next = rows.find((row) => row.dataset.orderStep === nextStep(ids, take));
    const button = /** @type {HTMLButtonElement | null} */ (
      document.querySelector("[data-next-step]")
    );
    if (button) button.disabled = !next;
  };

  const fail = (/** @type {string} */ sentence) =>
    document.dispatchEvent(new CustomEvent("record:failed", { detail: sentence }));

  live.addEventListener("live:status", (event) => show(/** @type {CustomEvent} */ (event).detail), {
    signal: stop.signal,
  });
  document.addEventListener(
    "record:cues",
    (event) => showCues(/** @type {CustomEvent} */ (event).detail),
    { signal: stop.signal },
  );
  // What was exchanged does not know yet how the take stands.
  document.addEventListener(
    "parts:swapped",
    () => {
      newest.forget();
      show(last);
    },
    { signal: stop.signal },
  );
  show(last);
  return { destroy: () => stop.abort() };
}
