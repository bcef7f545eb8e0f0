import { beginAsking, swapParts } from "../lib/parts.js";

const SETTLE_MS = 250;
const FAILED = "Vast Kettle does not answer, so this was not saved. Change it again in a moment.";

/**
 * Sends every form[data-save] in place as soon as a field changes or a button of it is pressed,
 * one after the other, and takes over what the server made of it; with data-save="submit" a
 * button only. Buttons marked by
 * data-without-script are for pages without JavaScript.
 */
export function mount() {
  const stop = new AbortController();
  /** @type {Promise<void>} */
  let last = Promise.resolve();
  /** @type {WeakMap<HTMLFormElement, number>} */
  const timers = new WeakMap();

  const say = (/** @type {string} */ words, /** @type {string} */ state) => {
    for (const place of document.querySelectorAll("[data-saved]")) {
      place.textContent = words;
      /** @type {HTMLElement} */ (place).dataset.state = state;
    }
  };

  const send = async (/** @type {string} */ address, /** @type {FormData} */ data) => {
    say("Saving …", "");
    const isNewest = beginAsking();
    try {
      const answer = await fetch(address, { method: "POST", body: data, signal: stop.signal });
      const html = await answer.text();
      // What is wrong with a field is shown whatever else was chosen meanwhile.
      if (isNewest() || !answer.ok) {
        swapParts(html);
        follow(answer);
      } else {
        // Something else was chosen meanwhile: the page as it is then, with what was saved.
        swapParts(await (await fetch(location.href, { signal: stop.signal })).text());
      }
      say(answer.ok ? "Saved" : "Not saved", answer.ok ? "good" : "fault");
    } catch {
      if (!stop.signal.aborted) say(FAILED, "fault");
    }
  };

  /** Where the server leads to another state of this page, a reload shows the same. */
  const follow = (/** @type {Response} */ answer) => {
    const { pathname, search } = new URL(answer.url);
    if (answer.redirected && pathname === location.pathname)
      history.replaceState(null, "", pathname + search);
  };

  // A form that was exchanged meanwhile still has what was set in it.
  const queue = (/** @type {HTMLFormElement} */ form, /** @type {HTMLElement | null} */ button) => {
    const data = new FormData(form, button?.isConnected ? button : null);
    last = last.then(() => send(form.action, data));
  };

  const hide = () => {
    for (const button of document.querySelectorAll("form[data-save] [data-without-script]")) {
      /** @type {HTMLElement} */ (button).hidden = true;
    }
  };

  document.addEventListener(
    "change",
    (event) => {
      const form = /** @type {HTMLElement} */ (event.target).closest("form");
      if (!form?.matches("[data-save]:not([data-save=submit])")) return;
      window.clearTimeout(timers.get(form));
      timers.set(
        form,
        window.setTimeout(() => queue(form, null), SETTLE_MS),
      );
    },
    { signal: stop.signal },
  );
  document.addEventListener(
    "submit",
    (event) => {
      const form = /** @type {HTMLFormElement} */ (event.target);
      if (!form.matches("[data-save]")) return;
      event.preventDefault();
      window.clearTimeout(timers.get(form));
      const button = /** @type {HTMLButtonElement | null} */ (event.submitter);
      queue(form, button);
    },
    { signal: stop.signal },
  );
  document.addEventListener("parts:swapped", hide, { signal: stop.signal });
  hide();
  return { destroy: () => stop.abort() };
}
