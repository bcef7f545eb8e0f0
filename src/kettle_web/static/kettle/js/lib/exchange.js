/**
 * A page asks the server for itself: saves, chooses another state, looks for what changed. What
 * comes is morphed into the parts marked by data-part; what is being typed, focus, live pictures
 * (data-keep) and open folds stay as they are.
 */
import { Idiomorph } from "../../vendor/idiomorph.esm.js";
import { asking } from "./asking.js";
import { keepFocus } from "./focus.js";

const FAILED =
  "Vast Kettle does not answer, so this is not saved yet. It is sent again as soon as it does.";
const TOO_OLD =
  "Not saved: this page is not as it was any more. Reload it; what you typed is kept.";
const LARGEST_ON_LEAVING = 60_000;

const revisionOf = (/** @type {Document} */ page) => Number(page.body.dataset.revision ?? 0);
const pageOf = (/** @type {string} */ html) => new DOMParser().parseFromString(html, "text/html");

/** What is undone next: another one where something was done that is no revision. @param {Document} page */
const lastChange = (page) =>
  /** @type {HTMLInputElement | null} */ (page.querySelector("[name=undo_of]"))?.value ?? "";

/**
 * @param {Document} page
 * @param {import("./queue.js").Queue} queue
 * @param {ReturnType<typeof import("./typed_fields.js").typedFields>} fields
 */
export function exchange(page, queue, fields) {
  const answers = asking(revisionOf(page));

  const headers = () => ({
    "Kettle-In-Place": "1",
    "Kettle-Seen": String(answers.revision),
  });

  /** @param {string} words @param {string} state */
  const say = (words, state = "") => {
    for (const place of page.querySelectorAll("[data-saved]")) {
      place.textContent = words;
      /** @type {HTMLElement} */ (place).dataset.state = state;
    }
  };

  /** Where the server leads to another state of this page, a reload shows the same. @param {Response} answer */
  const follow = (answer) => {
    const { pathname, search } = new URL(answer.url);
    if (answer.redirected && pathname === location.pathname)
      history.replaceState(null, "", pathname + search);
  };

  /** Folds and menus stay as the user left them. @param {string} name @param {Element} node */
  const mayChange = (name, node) => !(name === "open" && node.matches("details, dialog"));

  /** @param {Node} old @param {Node} next */
  const mayMorph = (old, next) => {
    if (!(old instanceof HTMLElement) || !(next instanceof HTMLElement)) return true;
    if (old.dataset.keep !== undefined && old.dataset.keep === next.dataset.keep) {
      Object.assign(old.dataset, next.dataset);
      return false;
    }
    if (fields.isHeld(old)) return false;
    if (!old.matches("input, textarea, select")) return true;
    if (!fields.isNewer(/** @type {HTMLInputElement} */ (old))) return true;
    // What the fresh copy does not know of yet; what is wrong with it is shown all the same.
    for (const name of ["aria-invalid", "class", "aria-describedby"]) {
      const value = next.getAttribute(name);
      if (value === null) old.removeAttribute(name);
      else old.setAttribute(name, value);
    }
    return false;
  };

  /** @param {Document} fresh @param {boolean} background */
  const takeOver = (fresh, background = false) => {
    const giveBack = keepFocus(page);
    for (const part of page.querySelectorAll("[data-part]")) {
      const name = /** @type {HTMLElement} */ (part).dataset.part ?? "";
      const next = fresh.querySelector(`[data-part="${CSS.escape(name)}"]`);
      if (!next) continue;
      Idiomorph.morph(part, page.importNode(next, true), {
        morphStyle: "outerHTML",
        callbacks: { beforeNodeMorphed: mayMorph, beforeAttributeUpdated: mayChange },
      });
    }
    answers.takeOver(revisionOf(fresh), background);
    page.body.dataset.revision = String(answers.revision);
    page.dispatchEvent(new CustomEvent("parts:swapped"));
    giveBack();
  };

  /**
   * Shows the page as it is now.
   * @param {boolean} background whether it is only looked for what may have changed
   * @returns {Promise<boolean>} whether it was taken over
   */
  const refresh = async (background = false) => {
    const mayShow = answers.begin(background);
    const answer = await fetch(location.href);
    if (!answer.ok) return false;
    const fresh = pageOf(await answer.text());
    if (!mayShow(revisionOf(fresh))) return false;
    takeOver(fresh, background);
    return true;
  };

  /** What was done, or what the server would not have, or could not. @param {Response} answer @param {FormData} data @param {string} error */
  const told = async (answer, data, error) => {
    if (answer.ok) {
      fields.end(data, true);
      page.dispatchEvent(new CustomEvent("page:saved", { detail: data }));
    } else if (answer.status >= 500) {
      fields.end(data, false);
      page.dispatchEvent(new CustomEvent("page:unsent"));
    } else fields.refuse(data);
    await refresh();
    say(error ? `Not saved: ${error}` : "", error ? "fault" : "");
  };

  /** @param {string} address @param {FormData} data */
  const send = async (address, data) => {
    const [before, last] = [answers.revision, lastChange(page)];
    const mayShow = answers.begin();
    let isOpen = true;
    try {
      const answer = await fetch(address, { method: "POST", body: data, headers: headers() });
      const kind = answer.headers.get("Content-Type") ?? "";
      if (kind.startsWith("application/json")) {
        const { error } = await answer.json();
        isOpen = false;
        await told(answer, data, error);
        return;
      }
      const fresh = pageOf(await answer.text());
      if (answer.status >= 500) throw new Error(answer.statusText);
      if (!answer.ok && !fresh.querySelector("[data-part]")) {
        // What it was about is gone, or this page is too old to be heard: asking again helps nobody.
        isOpen = false;
        fields.refuse(data);
        say(TOO_OLD, "fault");
        return;
      }
      isOpen = false;
      fields.end(data, true);
      if (answer.ok) page.dispatchEvent(new CustomEvent("page:saved", { detail: data }));
      if (queue.count > 1 && answer.ok) {
        // The next answer has this one in it, and what it is about stays as the user set it.
        follow(answer);
        answers.saved(revisionOf(fresh));
      } else if (mayShow(revisionOf(fresh), answer.ok)) {
        follow(answer);
        takeOver(fresh);
      } else {
        // Something else was chosen meanwhile: the page as it is then, with what was saved.
        await refresh();
      }
      // A page without a document, as the studio's, has no revisions.
      const kept =
        answers.revision > before || answers.revision === 0 || lastChange(fresh) !== last;
      if (answer.ok) say(kept ? "Saved" : "", "good");
      else say("Not saved", "fault");
    } catch {
      if (isOpen) {
        fields.end(data, false);
        page.dispatchEvent(new CustomEvent("page:unsent"));
      }
      say(FAILED, "fault");
    }
  };

  return {
    say,
    refresh,

    /** What the page shows. */
    revision: () => answers.revision,

    /**
     * Saves something after what is being saved already; the answer is taken over.
     * @param {string} address @param {FormData} data
     */
    save(address, data) {
      say("Saving …");
      fields.begin(data);
      return queue.add(() => send(address, data));
    },

    /**
     * Sends what has not been sent yet while the page is left; nobody waits for the answer.
     * @param {string} address @param {FormData} data
     */
    saveOnLeaving(address, data) {
      const text = new URLSearchParams();
      for (const [name, value] of data) if (typeof value === "string") text.append(name, value);
      if (String(text).length > LARGEST_ON_LEAVING) return;
      fetch(address, { method: "POST", body: text, headers: headers(), keepalive: true }).catch(
        () => {},
      );
    },

    /**
     * Shows another state of this page, which its address says from now on.
     * @param {string} address
     */
    async go(address) {
      history.replaceState(null, "", address);
      const mayShow = answers.begin();
      const fresh = pageOf(await (await fetch(address)).text());
      if (mayShow(revisionOf(fresh))) takeOver(fresh);
    },
  };
}
