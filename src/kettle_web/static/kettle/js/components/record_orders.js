import { whenChosen } from "../lib/choosing.js";

/**
 * Sends what is pressed on the Record page: start, stop, cues, what is thrown away. Each press has
 * an id, so that one that is sent twice counts once.
 */
const UNHEARD =
  "Vast Kettle did not answer, so it is not known whether this was done; a take that is being recorded goes on.";

/** @returns {{destroy: () => void}} */
export function mount() {
  const stop = new AbortController();
  const on = { signal: stop.signal };
  const error = /** @type {HTMLElement} */ (document.querySelector("[data-desk-error]"));
  const markForm = /** @type {HTMLFormElement} */ (document.querySelector("[data-mark-form]"));

  const say = (/** @type {string} */ sentence) => {
    error.textContent = sentence;
    error.hidden = !sentence;
  };

  /** @param {string} address @param {FormData} data @param {boolean} again */
  const send = async (address, data, again = false) => {
    /** @type {Response} */
    let answer;
    try {
      answer = await fetch(address, {
        method: "POST",
        body: data,
        headers: { Accept: "application/json" },
        signal: stop.signal,
      });
    } catch (failure) {
      if (stop.signal.aborted) throw failure;
      // The id is the same: nothing is done a second time.
      if (!again && data.has("id")) return send(address, data, true);
      throw new Error(UNHEARD);
    }
    const values = await answer.json();
    if (!answer.ok) throw new Error(values.error);
    return values;
  };

  /** Sends a form and says what went wrong. @param {HTMLFormElement} form @param {FormData} data */
  const order = async (form, data) => {
    say("");
    try {
      return await send(form.action, data);
    } catch (failure) {
      say(/** @type {Error} */ (failure).message);
      return null;
    }
  };

  const cue = async (/** @type {HTMLFormElement} */ form, /** @type {FormData} */ data) => {
    data.set("id", crypto.randomUUID());
    const answer = await order(form, data);
    if (answer) document.dispatchEvent(new CustomEvent("record:cues", { detail: answer }));
    return answer;
  };

  // "Do it again" begins as the take before did; what the page's address asks for counts more.
  const startForm = /** @type {HTMLFormElement} */ (document.querySelector("[data-start-form]"));
  const place = `record ${startForm.action}`;
  const valuesNow = () =>
    Object.fromEntries(
      [...new FormData(startForm)].filter(([name]) => name !== "csrfmiddlewaretoken"),
    );
  const remember = () => localStorage.setItem(place, JSON.stringify(valuesNow()));
  const asked = new URLSearchParams(location.search);
  let chosen = JSON.parse(localStorage.getItem(place) ?? "{}");
  const recall = () => {
    for (const field of /** @type {Iterable<any>} */ (startForm.elements)) {
      const value = chosen[field.name];
      if (asked.get(field.name)) continue;
      if (field.type === "checkbox") field.checked = value !== undefined;
      else if (field.tagName === "SELECT") {
        if ([...field.options].some((option) => option.value === value)) field.value = value;
      } else if (field.type === "number" && value !== undefined) field.value = value;
    }
  };
  // Another page may have changed what can be chosen; what is chosen here stays.
  startForm.addEventListener(
    "input",
    (event) => {
      asked.delete(/** @type {HTMLInputElement} */ (event.target).name);
      chosen = valuesNow();
    },
    on,
  );
  document.addEventListener("parts:swapped", recall, on);

  const askForWords = (/** @type {number} */ atNs) => {
    /** @type {HTMLInputElement} */ (markForm.elements.namedItem("at_ns")).value = String(atNs);
    markForm.hidden = false;
    const field = /** @type {HTMLInputElement} */ (markForm.elements.namedItem("text"));
    field.value = "";
    field.focus();
  };

  document.addEventListener(
    "submit",
    async (event) => {
      const form = /** @type {HTMLFormElement} */ (event.target);
      const button = /** @type {HTMLButtonElement | null} */ (event.submitter);
      if (form.matches("[data-cues]")) {
        event.preventDefault();
        const answer = await cue(form, new FormData(form, button));
        if (answer && button?.dataset.mark !== undefined) askForWords(answer.at_ns);
      } else if (form === markForm) {
        event.preventDefault();
        const data = new FormData(form);
        markForm.hidden = true;
        /** @type {HTMLElement | null} */ (document.activeElement)?.blur();
        if (String(data.get("text")).trim()) await cue(form, data);
      } else if (form.matches("[data-start-form]")) {
        event.preventDefault();
        if (await order(form, new FormData(form))) remember();
      } else if (form.matches("[data-lose-form]")) {
        event.preventDefault();
        form.closest("dialog")?.close();
        await order(form, new FormData(form));
      } else if (form.matches("[data-stop-form]")) {
        event.preventDefault();
        await stopTake(form, button);
      }
    },
    on,
  );

  /** @param {HTMLFormElement} form @param {HTMLButtonElement | null} button */
  const stopTake = async (form, button) => {
    if (button) {
      button.disabled = true;
      button.dataset.pressed = "true";
    }
    const answer = await order(form, new FormData(form));
    if (answer?.take_url) location.assign(answer.take_url);
    else if (answer) say("Stopped in the countdown, so nothing was recorded.");
    if (button) button.dataset.pressed = "false";
  };

  markForm.addEventListener(
    "keydown",
    (event) => {
      if (event.key !== "Escape") return;
      // The mark stays, without words.
      markForm.hidden = true;
      /** @type {HTMLElement | null} */ (document.activeElement)?.blur();
    },
    on,
  );

  document.addEventListener(
    "click",
    (event) => {
      const target = /** @type {HTMLElement} */ (event.target);
      const asks = /** @type {HTMLElement | null} */ (target.closest("[data-confirm]"));
      const dialog = document.getElementById(asks?.dataset.confirm ?? "");
      if (dialog) /** @type {HTMLDialogElement} */ (dialog).showModal();
      if (target.closest("[data-close]")) target.closest("dialog")?.close();
    },
    on,
  );

  document.addEventListener(
    "record:failed",
    (event) => say(/** @type {CustomEvent} */ (event).detail),
    on,
  );
  document.addEventListener(
    "change",
    (event) => {
      const field = /** @type {HTMLSelectElement} */ (event.target);
      if (field.form?.matches("[data-start-form]") && field.name === "scene") {
        const data = new FormData(field.form);
        send(field.form.dataset.showScene ?? "", data).catch((failure) => say(failure.message));
      }
    },
    on,
  );
  /** @type {NodeListOf<HTMLSelectElement>} */
  const lists = document.querySelectorAll("[data-choose] select");
  for (const list of lists) whenChosen(list, () => list.form?.requestSubmit(), stop.signal);
  recall();
  return { destroy: () => stop.abort() };
}
