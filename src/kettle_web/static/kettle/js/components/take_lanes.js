import { growth, seen } from "../lib/levels.js";
import { marks, ruleTime } from "../lib/take_lanes.js";
import { toRecord } from "../lib/take_time.js";
import { atNextFrame, colours, hole, sized } from "./canvas.js";

const RULE = 22;
const PICTURE = 54;
const SOUND = 50;
const WORDS = 26;
const WHEEL = 0.0015;

/**
 * The seconds round the play head, track by track under one rule. Click goes there, dragging marks
 * a stretch, the wheel zooms, arrow keys go frame by frame.
 * @param {HTMLElement} root @param {import("./take_data.js").TakeData} data
 * @param {import("./take_view.js").TakeView} view
 */
export function mount(root, data, view) {
  const stop = new AbortController();
  const on = { signal: stop.signal };
  const canvas = /** @type {HTMLCanvasElement} */ (root.querySelector("canvas"));
  const labels = /** @type {HTMLElement} */ (root.querySelector("[data-lane-labels]"));
  let width = 0;

  const xOf = (/** @type {number} */ at) => ((at - view.near.from) / view.near.length) * width;

  const draw = () => {
    const take = data.now;
    if (!take) return;
    width = Math.max(100, canvas.parentElement?.clientWidth ?? 0);
    const heights = take.tracks.map((track) => (track.is_picture ? PICTURE : SOUND));
    const rest = [...(take.happened.length ? [WORDS] : []), WORDS];
    const height = RULE + [...heights, ...rest].reduce((sum, one) => sum + one, 0);
    const pen = sized(canvas, width, height);
    const [ink, graphite, rule] = colours("ink", "graphite", "rule");
    pen.font = '11px "JetBrains Mono", monospace';
    const { step, times } = marks(view.near, width);
    for (const at of times) {
      pen.fillStyle = rule;
      pen.fillRect(Math.round(xOf(at)), 0, 1, height);
      pen.fillStyle = graphite;
      pen.fillText(ruleTime(at, step), xOf(at) + 4, 12);
    }
    let top = RULE;
    take.tracks.forEach((track, n) => {
      if (track.is_picture) pictures(pen, take, track, top);
      else waves(pen, take, track, top, ink);
      top = below(pen, top, heights[n], rule);
    });
    if (take.happened.length) {
      happenings(pen, take, top);
      top = below(pen, top, WORDS, rule);
    }
    for (const cue of take.cues) word(pen, cue.at_s, cue.words, top);
    below(pen, top, WORDS, rule);
    breaks(pen, take, height);
    head(pen, height);
    label(take, heights);
  };
  const later = atNextFrame(draw);

  /** @param {CanvasRenderingContext2D} pen @param {number} top @param {number} high @param {string} rule */
  function below(pen, top, high, rule) {
    pen.fillStyle = rule;
    pen.fillRect(0, top + high - 1, width, 1);
    return top + high;
  }

  /** @param {CanvasRenderingContext2D} pen @param {import("./take_data.js").Overview} take @param {import("./take_data.js").Track} track @param {number} top */
  function pictures(pen, take, track, top) {
    const [ochre, paper] = colours("ochre", "paper");
    const sheets = track.sheets;
    if (sheets) {
      const high = PICTURE - 6;
      const wide = (sheets.width / sheets.height) * high;
      const seconds = ((wide + 2) / width) * view.near.length;
      // They stay where they are while one scrolls.
      for (
        let n = Math.floor(view.near.from / seconds);
        n * seconds < view.near.from + view.near.length;
        n += 1
      ) {
        const at = n * seconds;
        if (at >= take.length_s) break;
        const found = data.picture(track, toRecord(take.pieces, at) - track.shift_s);
        if (found)
          pen.drawImage(
            found.sheet,
            found.left,
            found.top,
            found.width,
            found.height,
            xOf(at),
            top + 2,
            wide,
            high,
          );
      }
    }
    for (const [a, b] of track.gaps)
      if (b > view.near.from && a < view.near.from + view.near.length)
        hole(pen, xOf(a), top + 2, Math.max(3, xOf(b) - xOf(a)), PICTURE - 6, ochre, paper);
  }

  /** @param {CanvasRenderingContext2D} pen @param {import("./take_data.js").Overview} take @param {import("./take_data.js").Track} track @param {number} top @param {string} ink */
  function waves(pen, take, track, top, ink) {
    const [pine, pale, ochre, paper, brick, rule] = colours(
      "pine",
      "sand-light",
      "ochre",
      "paper",
      "brick",
      "rule",
    );
    const px = view.near.length / width;
    const middle = top + SOUND / 2;
    const half = SOUND / 2 - 5;
    const probe = data.waveform(track, 0.3, 0);
    const grown = probe ? growth(probe.part) : 1;
    if (track.voice.length) {
      pen.fillStyle = pale;
      for (const [a, b] of track.voice)
        if (b > view.near.from && a < view.near.from + view.near.length)
          pen.fillRect(xOf(a), top + 1, xOf(b) - xOf(a), SOUND - 3);
    }
    pen.fillStyle = rule;
    pen.fillRect(0, middle, Math.min(width, xOf(take.length_s)), 1);
    pen.fillStyle = track.voice.length || track.name === take.ink ? ink : pine;
    for (let x = 0; x < Math.min(width, xOf(take.length_s)); x += 1) {
      const record = toRecord(take.pieces, view.near.from + x * px) - track.shift_s;
      const wave = data.waveform(track, px, record);
      const found = wave && seen(wave.part, wave.step_s, record, record + px);
      if (!found) continue;
      const [least, most] = found.map((one) => Math.max(-1, Math.min(1, one * grown)));
      pen.fillRect(x, middle - most * half, 1, Math.max(1, (most - least) * half));
    }
    for (const [a, b] of track.gaps)
      if (b > view.near.from && a < view.near.from + view.near.length)
        hole(pen, xOf(a), top + 2, Math.max(3, xOf(b) - xOf(a)), SOUND - 6, ochre, paper);
    pen.fillStyle = brick;
    for (const [at, samples] of track.clips) {
      if (at < view.near.from || at > view.near.from + view.near.length) continue;
      pen.fillRect(xOf(at), top + 1, 2, 8);
      if (view.near.length < 20) pen.fillText(`clips ${samples}`, xOf(at) + 5, top + 10);
    }
  }

  /** @param {CanvasRenderingContext2D} pen @param {number} at @param {string} text @param {number} top */
  function word(pen, at, text, top) {
    if (at < view.near.from - view.near.length || at > view.near.from + view.near.length) return;
    const [ink] = colours("ink");
    pen.fillStyle = ink;
    pen.fillRect(xOf(at), top + 3, 1, WORDS - 7);
    pen.font = "12px Figtree, sans-serif";
    pen.fillText(text, xOf(at) + 5, top + 16);
  }

  /** @param {CanvasRenderingContext2D} pen @param {import("./take_data.js").Overview} take @param {number} top */
  function happenings(pen, take, top) {
    const [graphite] = colours("graphite");
    pen.strokeStyle = pen.fillStyle = graphite;
    pen.font = '11px "JetBrains Mono", monospace';
    for (const [at, what, words] of take.happened) {
      if (at < view.near.from || at > view.near.from + view.near.length) continue;
      if (what === "key") pen.fillText(words, xOf(at) - 3, top + 16);
      else {
        pen.beginPath();
        pen.arc(xOf(at), top + WORDS / 2 - 1, 4, 0, 2 * Math.PI);
        pen.stroke();
      }
    }
  }

  /** @param {CanvasRenderingContext2D} pen @param {import("./take_data.js").Overview} take @param {number} height */
  function breaks(pen, take, height) {
    const [graphite] = colours("graphite");
    pen.fillStyle = graphite;
    for (const [at] of take.pieces.slice(1)) {
      pen.fillRect(xOf(at) - 2, RULE - 4, 1, height - RULE + 4);
      pen.fillRect(xOf(at) + 1, RULE - 4, 1, height - RULE + 4);
    }
  }

  /** @param {CanvasRenderingContext2D} pen @param {number} height */
  function head(pen, height) {
    const [plum] = colours("plum");
    pen.fillStyle = plum;
    if (view.stretch) {
      const [a, b] = view.stretch;
      pen.globalAlpha = 0.13;
      pen.fillRect(xOf(a), RULE - 4, xOf(b) - xOf(a), height - RULE + 4);
      pen.globalAlpha = 1;
    }
    pen.fillRect(xOf(view.at) - 1, 8, 2, height - 8);
    pen.beginPath();
    pen.arc(xOf(view.at), RULE - 8, 4, 0, 2 * Math.PI);
    pen.fill();
  }

  /** @param {import("./take_data.js").Overview} take @param {number[]} heights */
  function label(take, heights) {
    const rows = take.tracks.map((track, n) => [track.title, sub(track), heights[n]]);
    if (take.happened.length) rows.push(["Clicks, keys", "", WORDS]);
    rows.push(["Cues", "", WORDS]);
    const key = JSON.stringify(rows);
    if (labels.dataset.shown === key) return;
    labels.dataset.shown = key;
    labels.replaceChildren(
      ...rows.map(([title, small, high]) => {
        const row = document.createElement("div");
        row.style.height = `${high}px`;
        const strong = document.createElement("strong");
        strong.textContent = String(title);
        row.append(strong);
        if (small) {
          const quiet = document.createElement("small");
          quiet.textContent = String(small);
          row.append(quiet);
        }
        return row;
      }),
    );
  }

  const timeOf = (/** @type {MouseEvent} */ event) => {
    const box = canvas.getBoundingClientRect();
    return view.near.from + ((event.clientX - box.left) / width) * view.near.length;
  };
  root.addEventListener(
    "pointerdown",
    (event) => {
      if (event.button !== 0 || event.target !== canvas) return;
      root.focus();
      canvas.setPointerCapture(event.pointerId);
      const from = timeOf(event);
      let dragged = false;
      const move = (/** @type {PointerEvent} */ now) => {
        dragged ||= Math.abs(now.clientX - event.clientX) >= 4;
        if (dragged) view.mark(from, timeOf(now));
      };
      const up = () => {
        canvas.removeEventListener("pointermove", move);
        if (dragged) return;
        view.forget();
        view.go(from);
      };
      canvas.addEventListener("pointermove", move, on);
      canvas.addEventListener("pointerup", up, { ...on, once: true });
      canvas.addEventListener("pointercancel", up, { ...on, once: true });
    },
    on,
  );
  canvas.addEventListener(
    "wheel",
    (event) => {
      if (!event.ctrlKey && !event.shiftKey && Math.abs(event.deltaY) >= Math.abs(event.deltaX))
        return;
      event.preventDefault();
      if (event.ctrlKey) view.zoom(Math.exp(event.deltaY * WHEEL), timeOf(event));
      else
        view.show({
          from: view.near.from + ((event.deltaX || event.deltaY) / width) * view.near.length,
          length: view.near.length,
        });
    },
    { ...on, passive: false },
  );
  root.addEventListener(
    "keydown",
    (event) => {
      if (event.ctrlKey || event.metaKey || event.altKey) return;
      const frame = 1 / (data.now?.fps || 30);
      const by = {
        ArrowLeft: -frame,
        ArrowRight: frame,
        PageUp: -view.near.length,
        PageDown: view.near.length,
      }[event.key];
      if (by !== undefined) {
        event.preventDefault();
        const before = view.at;
        // Onto whole frames, where pictures change.
        const to = Math.abs(by) === frame ? Math.round((before + by) / frame) * frame : before + by;
        view.go(to);
        if (event.shiftKey) {
          const [a, b] = view.stretch ?? [before, before];
          view.mark(Math.abs(a - before) < 1e-6 ? b : a, view.at);
        }
      } else if (event.key === "+" || event.key === "-") {
        event.preventDefault();
        view.zoom(event.key === "+" ? 0.5 : 2);
      }
    },
    on,
  );
  for (const what of ["at", "stretch", "near"]) view.addEventListener(what, later, on);
  const sizes = new ResizeObserver(later);
  sizes.observe(root);
  return {
    draw: later,
    destroy() {
      stop.abort();
      sizes.disconnect();
    },
  };
}

/** What is said of a track below its name. @param {import("./take_data.js").Track} track */
function sub(track) {
  if (track.error) return "can't be read";
  const found = [];
  if (track.gaps.length)
    found.push(`${track.gaps.length} ${track.gaps.length > 1 ? "gaps" : "gap"}`);
  if (track.clips.length) found.push(`clips at ${track.clips.length} places`);
  if (track.shift_s)
    found.push(`${track.shift_s > 0 ? "+" : "−"}${Math.abs(track.shift_s * 1000).toFixed(1)} ms`);
  return (
    found.join(" · ") ||
    { microphone: "voice", "system-audio": "plays" }[track.kind] ||
    track.kind.replace("-", " ")
  );
}
