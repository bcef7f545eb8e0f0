import { dragging } from "../lib/dragging.js";
import { dataOf, save } from "../lib/page.js";
import { ruleTime } from "../lib/take_lanes.js";
import { placeOf, rowsOf } from "../lib/take_lines.js";

/** @typedef {import("../lib/take_lines.js").Word} Word @typedef {import("../lib/take_lines.js").Layout} Layout */

const NEAR_END = 0.9;
const ABOVE_PX = 18;
const ROW_PX = 17;

/**
 * What stands above the ink: steps, scenes, marks, speeds. What the page has a form for
 * (`data-move-cue`) is dragged to another time; a click goes to it.
 * @typedef {Pick<PointerEvent, "clientX" | "clientY" | "altKey">} Where
 * @param {HTMLElement} root @param {(event: Where) => number} timeOf
 * @param {import("./take_view.js").TakeView} view @param {AbortSignal} signal
 * @param {number} margin where lines begin, in px
 */
export function lineWords(root, timeOf, view, signal, margin) {
  const place = /** @type {HTMLElement} */ (root.querySelector("[data-line-words]"));
  /** What stands there now, and what it stands for. @type {Map<Element, Word>} */
  const known = new Map();
  /** @type {Layout | null} */
  let layout = null;
  let width = 0;
  let shown = "";
  const form = () =>
    /** @type {HTMLFormElement | null} */ (document.querySelector("[data-move-cue]"));

  /** What would run out of the page stands before its place. @param {HTMLElement} word @param {number} at */
  function put(word, at) {
    if (!layout) return;
    const { x, line } = placeOf(layout, at);
    const isLast = x > NEAR_END;
    word.style.right = isLast ? `${width - x * width}px` : "";
    word.style.left = isLast ? "" : `${margin + x * width}px`;
    word.style.top = `${line.base - ABOVE_PX}px`;
  }

  /** Words at nearly the same place stand above each other. @param {Element[]} words */
  function apart(words) {
    const tops = words.map((word) => /** @type {HTMLElement} */ (word).style.top);
    const boxes = words.map((word, n) => {
      const { left, width: wide } = word.getBoundingClientRect();
      return { line: tops[n], left, right: left + wide };
    });
    for (const [n, row] of rowsOf(boxes).entries())
      if (row)
        /** @type {HTMLElement} */ (words[n]).style.top =
          `${Number.parseFloat(tops[n]) - row * ROW_PX}px`;
  }

  const spanOf = (/** @type {string} */ kind, /** @type {string} */ text) => {
    const word = document.createElement("span");
    word.className = `line-word line-${kind}`;
    word.textContent = text;
    return word;
  };

  const drag = dragging(
    place,
    {
      take(event) {
        const word = /** @type {HTMLElement | null} */ (
          /** @type {Element} */ (event.target).closest("[data-cue]")
        );
        const one = word && known.get(word);
        if (!word || !one || !form()) return null;
        // Nothing is marked below it.
        event.stopPropagation();
        root.focus();
        // Where it is held beside its place.
        const box = word.getBoundingClientRect();
        const beside = event.clientX - (word.style.right ? box.right : box.left);
        return { word, one, at: one.at_s, beside };
      },
      move(held, event) {
        const { clientX, clientY, altKey } = event;
        held.at = timeOf({ clientX: clientX - held.beside, clientY, altKey });
        held.word.textContent = `${held.one.words} ${ruleTime(held.at, 0.1)}`;
        put(held.word, held.at);
      },
      drop({ word, one, at }, moved) {
        const asked = form();
        if (!moved || !asked) {
          view.forget();
          view.go(one.at_s);
          return;
        }
        word.textContent = one.words;
        // Wherever it stands by then, it is laid anew when the answer has come.
        shown = "";
        const data = dataOf(asked);
        data.set("cue", one.cue ?? "");
        root.dispatchEvent(new CustomEvent("cue:moves", { detail: { data, one, at } }));
        save(asked.action, data);
      },
      putBack({ word, one }) {
        word.textContent = one.words;
        put(word, one.at_s);
      },
    },
    signal,
  );

  return {
    /**
     * @param {import("../lib/take_paper.js").Paper} paper @param {Layout} all @param {Word[]} speeds
     * @param {number} wide px of a line
     */
    lay(paper, all, speeds, wide) {
      const { scenes, marks, steps } = paper;
      const key = JSON.stringify([scenes, marks, steps, speeds, all.height, wide]);
      if (key === shown || drag.moving()) return;
      [shown, layout, width] = [key, all, wide];
      known.clear();
      /** @type {HTMLElement[]} */
      const made = [];
      for (const line of all.lines) {
        if (!line.heads.length) continue;
        const word = spanOf("step", line.heads.map((head) => head.words).join(" · "));
        word.style.left = `${margin}px`;
        word.style.top = `${line.top}px`;
        made.push(word);
      }
      for (const [kind, found] of /** @type {[string, Word[]][]} */ ([
        ["scene", scenes],
        ["mark", marks],
        ["speed", speeds],
      ]))
        for (const one of found) {
          const word = spanOf(kind, one.words);
          if (one.cue && form()) {
            word.dataset.cue = one.cue;
            word.title = "Drag it to another time";
          }
          put(word, one.at_s);
          known.set(word, one);
          made.push(word);
        }
      place.replaceChildren(...made);
      apart([...known.keys()]);
    },
  };
}
