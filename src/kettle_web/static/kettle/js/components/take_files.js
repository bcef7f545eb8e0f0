import { PROGRAM } from "../lib/take_choice.js";
import { fromFile, toFile, toRecord, toTake } from "../lib/take_time.js";

/**
 * The files of a take that are played, each an element made when it is first wanted, and at which
 * time of it a time of the take lies.
 * @param {HTMLElement} root @param {import("./take_data.js").TakeData} data
 * @param {import("../lib/take_choice.js").Choice} choice
 * @param {(name: string) => void} loaded called when a file can be set to a place
 */
export function takeFiles(root, data, choice, loaded) {
  /** @type {Map<string, HTMLMediaElement>} */
  const elements = new Map();
  const track = (/** @type {string} */ name) => data.now?.tracks.find((one) => one.name === name);
  const address = (/** @type {string} */ name) =>
    (name === PROGRAM ? data.now?.program : track(name)?.play) ?? "";
  const pieces = () => data.now?.pieces ?? [];

  /** How a track's file lies in the take. @param {string} name @returns {[[number, number, number][], number]} */
  function laid(name) {
    const found = track(name);
    if (!found) return [[[0, 0, 1]], 0];
    return choice.asCame ? [found.came, 0] : [found.knots, found.shift_s];
  }

  return {
    elements,
    /** @param {string} name */
    element(name) {
      const known = elements.get(name);
      if (known || !address(name)) return known ?? null;
      const isPicture = name === PROGRAM || track(name)?.is_picture;
      const made = document.createElement(isPicture ? "video" : "audio");
      made.preload = "auto";
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
    /** A file that is another one by now has another address. */
    refresh() {
      for (const [name, one] of elements) {
        const next = address(name);
        if (next && one.getAttribute("src") !== next) one.src = next;
      }
    },
    destroy() {
      for (const one of elements.values()) one.remove();
    },
  };
}
