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
 */
export function takeFiles(root, data, choice, loaded) {
  /** @type {Map<string, Playable>} */
  const elements = new Map();
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
    /** @param {string} name */
    element(name) {
      const known = elements.get(name);
      if (known || !address(name)) return known ?? null;
      const made = /** @type {Playable} */ (document.createElement(tag(name)));
      if (made instanceof HTMLMediaElement) made.preload = "auto";
      made.src = address(name);
      made.dataset.plays = name;
      made.addEventListener("loadedmetadata", () => loaded(name));
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
