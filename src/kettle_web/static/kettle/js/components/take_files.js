import "./plan_media.js";
import { PROGRAM } from "../lib/take_choice.js";
import { fromFile, toFile, toRecord, toTake } from "../lib/take_time.js";

/** @typedef {HTMLMediaElement | import("./plan_media.js").PlanMedia} Playable */

/**
 * The files of a take that are played, each an element made when it is first wanted, and at which
 * time of it a time of the take lies. A program that is not composed as it is by now plays from its plan.
 * @param {HTMLElement} root @param {{now: import("./take_data.js").Overview | null}} data
 * @param {import("../lib/take_choice.js").Choice} choice
 * @param {(name: string) => void} loaded called when a file can be set to a place
 * @param {() => void} told called when one can't be loaded, or can again
 */
export function takeFiles(root, data, choice, loaded, told) {
  /** @type {Map<string, Playable>} */
  const elements = new Map();
  /** Those that could not be loaded, or not to their end. @type {Set<string>} */
  const failed = new Set();
  const track = (/** @type {string} */ name) => data.now?.tracks.find((one) => one.name === name);
  const address = (/** @type {string} */ name) =>
    (name === PROGRAM ? data.now?.program || data.now?.plan : track(name)?.play) ?? "";
  const pieces = () => data.now?.pieces ?? [];

  /** How a track's file lies in the take. @param {string} name @returns {[[number, number, number][], number]} */
  function laid(name) {
    const found = track(name);
    if (!found) return [[[0, 0, 1]], 0];
    return choice.asCame ? [found.came, 0] : [found.knots, found.shift_s];
  }

  /** @param {string} name */
  function tag(name) {
    if (name === PROGRAM) return data.now?.program ? "video" : "plan-media";
    return track(name)?.is_picture ? "video" : "audio";
  }

  return {
    elements,
    failed,
    /** Try to load again what could not be loaded. */
    again() {
      for (const name of failed) {
        const one = elements.get(name);
        if (one instanceof HTMLMediaElement) one.load();
      }
      failed.clear();
    },
    /** What of all that plays can't be loaded, in words. */
    get lost() {
      const names = choice.names.filter((name) => failed.has(name));
      return names.map((name) => (name === PROGRAM ? "The program" : (track(name)?.title ?? name)));
    },
    /** @param {string} name */
    element(name) {
      const known = elements.get(name);
      if (known || !address(name)) return known ?? null;
      const made = /** @type {Playable} */ (document.createElement(tag(name)));
      if (made instanceof HTMLMediaElement) made.preload = "auto";
      made.src = address(name);
      made.dataset.plays = name;
      made.addEventListener("loadedmetadata", () => {
        loaded(name);
        if (failed.delete(name)) told();
      });
      made.addEventListener("error", () => {
        failed.add(name);
        told();
      });
      root.append(made);
      elements.set(name, made);
      return made;
    },
    /** @param {string} name @param {number} at */
    toFile(name, at) {
      return name === PROGRAM ? at : toFile(laid(name)[0], toRecord(pieces(), at), laid(name)[1]);
    },
    /** @param {string} name @param {number} file */
    toTake(name, file) {
      return name === PROGRAM
        ? file
        : toTake(pieces(), fromFile(laid(name)[0], file, laid(name)[1]));
    },
    /** What is another one by now has another address. @param {boolean} playing what plays from its plan goes on so */
    refresh(playing) {
      for (const [name, one] of elements) {
        const next = address(name);
        if (!next || one.getAttribute("src") === next) continue;
        failed.delete(name);
        if (one.localName === tag(name)) one.src = next;
        else if (!playing || one.localName !== "plan-media") {
          one.remove();
          elements.delete(name);
        }
      }
    },
    destroy() {
      for (const one of elements.values()) one.remove();
    },
  };
}
