import { elapsed, megabytes, percent } from "../lib/format.js";

const WORDS = {
  idle: "Opening the rig",
  watching: "Ready",
  countdown: "Counting down",
  recording: "Recording",
  finishing: "Finishing the take",
  absent: "Engine not running",
  failed: "Fault",
  lost: "Connection lost",
};

/**
 * Record and Stop, and the figures while a take runs.
 * @param {HTMLElement} live the element that tells `live:status`
 */
export function mount(live) {
  const stop = new AbortController();
  const find = (/** @type {string} */ selector) =>
    /** @type {HTMLElement} */ (document.querySelector(selector));
  const desk = find("[data-record]");
  const startForm = /** @type {HTMLFormElement} */ (find("[data-start-form]"));
  const stopForm = /** @type {HTMLFormElement} */ (find("[data-stop-form]"));
  const error = find("[data-start-error]");
  const trouble = find("[data-trouble]");
  let stopping = false;

  const show = (/** @type {any} */ status) => {
    const state = /** @type {keyof typeof WORDS} */ (status.state);
    find("[data-run-word]").textContent = WORDS[state] ?? state;
    // What is recorded goes on without this page, and without an engine for a while; Stop stays.
    const taking = ["recording", "countdown"].includes(desk.dataset.engine ?? "");
    if (state === "lost" || (taking && (state === "absent" || state === "failed"))) return;
    desk.dataset.engine = state;
    const running = state === "recording" || state === "countdown";
    const startButton = /** @type {HTMLButtonElement} */ (startForm.querySelector("button"));
    const stopButton = /** @type {HTMLButtonElement} */ (stopForm.querySelector("button"));
    startButton.disabled = running || state === "finishing" || state === "absent";
    stopButton.disabled = !running || stopping;
    if (status.starts_in_s !== undefined) {
      find("[data-count]").textContent = String(Math.ceil(status.starts_in_s));
    }
    if (status.take) showTake(status.take);
    showTrouble(status);
    if (status.last_take?.state === "failed") say(status.last_take.notes.join(" "));
  };

  const showTake = (/** @type {any} */ take) => {
    find("[data-elapsed]").textContent = elapsed(take.elapsed_s);
    let dropped = 0;
    for (const [name, track] of Object.entries(take.tracks)) {
      const row = document.querySelector(`[data-track="${name}"]`);
      const [written, lost] = [
        row?.querySelector("[data-written]"),
        row?.querySelector("[data-dropped]"),
      ];
      if (written) written.textContent = String(track.written);
      if (lost) lost.textContent = String(track.dropped);
      dropped += track.dropped;
    }
    const room = take.elapsed_s > 1 ? ` · ${percent(take.head_room)} head-room` : "";
    find("[data-figures]").textContent =
      `${megabytes(take.size_bytes)} · ${dropped} dropped · ${Math.round(take.worst_late_ms)} ms late${room}`;
  };

  const showTrouble = (/** @type {any} */ status) => {
    const sentences = [...(status.take?.trouble ?? [])];
    if (status.waits_for) sentences.push(`Waits for ${status.waits_for.join(" and ")}.`);
    if (trouble.dataset.said === sentences.join()) return;
    trouble.dataset.said = sentences.join();
    trouble.hidden = sentences.length === 0;
    trouble.replaceChildren(
      ...sentences.map((sentence) => {
        const line = document.createElement("p");
        line.className = "notice";
        line.textContent = sentence;
        return line;
      }),
    );
  };

  const say = (/** @type {string} */ sentence) => {
    error.textContent = sentence;
    error.hidden = !sentence;
  };

  const send = async (/** @type {HTMLFormElement} */ form) => {
    const answer = await fetch(form.action, {
      method: "POST",
      body: new FormData(form),
      headers: { Accept: "application/json" },
      signal: stop.signal,
    });
    const values = await answer.json();
    if (!answer.ok) throw new Error(values.error);
    return values;
  };

  startForm.addEventListener(
    "submit",
    async (event) => {
      event.preventDefault();
      say("");
      try {
        await send(startForm);
      } catch (failure) {
        say(/** @type {Error} */ (failure).message);
      }
    },
    { signal: stop.signal },
  );
  stopForm.addEventListener(
    "submit",
    async (event) => {
      event.preventDefault();
      stopping = true;
      /** @type {HTMLButtonElement} */ (stopForm.querySelector("button")).disabled = true;
      try {
        const { take_url: address } = await send(stopForm);
        if (address) location.assign(address);
        else say("Stopped in the countdown, so nothing was recorded.");
      } catch (failure) {
        say(/** @type {Error} */ (failure).message);
      }
      stopping = false;
    },
    { signal: stop.signal },
  );
  live.addEventListener("live:status", (event) => show(/** @type {CustomEvent} */ (event).detail), {
    signal: stop.signal,
  });
  show({ state: desk.dataset.engine });
  return { destroy: () => stop.abort() };
}
