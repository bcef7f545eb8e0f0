import { fineStep, levelFor, partOf, STEP_BYTES, STRIP, stripStep } from "../lib/levels.js";

/**
 * @typedef {{name: string, title: string, kind: string, is_picture: boolean, fps: number,
 *   shift_s: number, play: string, knots: [number, number, number][],
 *   came: [number, number, number][], error: string,
 *   gaps: [number, number][], voice: [number, number][], clips: [number, number][],
 *   levels: import("../lib/levels.js").Level[], levels_at: string, fine_at: string,
 *   sheets?: {every_s: number, count: number, width: number, height: number, columns: number,
 *     rows: number, at: string[], near: string}, late: [number, number][]}} Track
 * @typedef {{id: string, at_s: number, until_s: number | null, text: string}} Mark
 * @typedef {{revision: number, length_s: number, fps: number, pieces: [number, number][],
 *   ink: string, tracks: Track[], marks: Mark[], program: string, plan: string, surveyed: boolean,
 *   cues: {id: string, at_s: number, do: string, words: string}[],
 *   steps: {at_s: number, words: string}[], scenes: {at_s: number, words: string, scene: string, cue: string}[],
 *   quiet: [number, number][], happened: [number, string, string][]}} Overview
 */

/** Levels up to this size are fetched whole. */
const WHOLE_BYTES = 400_000;
const CHUNK_STEPS = 8192;
const FINE_STEPS = 2048;
/** Of sheets and strips so many are kept. */
const MOST_IMAGES = 160;

/**
 * What is drawn of a take: fetched anew when the page has changed; waveforms by range and
 * pictures by sheet, each once.
 * @param {string} address @param {() => void} came called when there is more to draw
 */
export function takeData(address, came) {
  const stop = new AbortController();
  /** @type {Map<string, import("../lib/levels.js").Part | null>} */
  const parts = new Map();
  /** @type {Map<string, HTMLImageElement>} */
  const sheets = new Map();
  /** @type {Overview | null} */
  let known = null;
  let waves = 0;

  const fetched = async (
    /** @type {string} */ from,
    /** @type {number} */ first = 0,
    /** @type {number} */ bytes = 0,
  ) => {
    /** @type {Record<string, string>} */
    const headers = bytes ? { Range: `bytes=${first}-${first + bytes - 1}` } : {};
    const answer = await fetch(from, { headers, signal: stop.signal });
    return answer.ok ? await answer.arrayBuffer() : null;
  };

  /** A picture that is fetched once; null until it is there. @param {string} at */
  const image = (at) => {
    let known = sheets.get(at);
    if (!known) {
      known = new Image();
      known.addEventListener("load", came, { signal: stop.signal });
      known.src = at;
      sheets.set(at, known);
      if (sheets.size > MOST_IMAGES) sheets.delete(sheets.keys().next().value ?? "");
    }
    return known.complete && known.naturalWidth ? known : null;
  };

  /** A part of a waveform, asked for once. @param {string} key @param {number} first @param {() => Promise<ArrayBuffer | null>} get */
  const partFor = (key, first, get) => {
    const part = parts.get(key);
    if (part !== undefined) return part;
    parts.set(key, null);
    get()
      .then((data) => {
        if (!data) return;
        parts.set(key, partOf(data, first));
        waves += 1;
        came();
      })
      .catch(() => parts.delete(key));
    return null;
  };

  return {
    /** What is known now. */
    get now() {
      return known;
    },
    /** Another number when a waveform looks otherwise. */
    get waves() {
      return waves;
    },
    async load() {
      try {
        const answer = await fetch(address, {
          headers: { Accept: "application/json" },
          signal: stop.signal,
        });
        if (answer.ok) {
          known = await answer.json();
          waves += 1;
          came();
        }
      } catch (error) {
        if (!stop.signal.aborted) throw error;
      }
    },
    /**
     * The part of a sound's waveform that has a record time, as fine as can be told apart.
     * @param {Track} track @param {number} secondsPerPx @param {number} record
     * @returns {{part: import("../lib/levels.js").Part, step_s: number} | null} null until it is there
     */
    waveform(track, secondsPerPx, record) {
      if (!track.levels.length) return null;
      const fineNs = fineStep(secondsPerPx, track.levels[0].step_s);
      if (fineNs) {
        const first = Math.floor(Math.max(0, record) / ((fineNs / 1e9) * FINE_STEPS)) * FINE_STEPS;
        const address = `${track.fine_at}?step_ns=${fineNs}&first=${first}&count=${FINE_STEPS}`;
        const part = partFor(address, first, () => fetched(address));
        // Until it is there what is coarser stands in for it.
        if (part) return { part, step_s: fineNs / 1e9 };
      }
      const level = track.levels[levelFor(track.levels, secondsPerPx)];
      const whole = level.count * STEP_BYTES <= WHOLE_BYTES;
      const step = Math.min(level.count - 1, Math.max(0, Math.floor(record / level.step_s)));
      const first = whole ? 0 : Math.floor(step / CHUNK_STEPS) * CHUNK_STEPS;
      const count = whole ? level.count : Math.min(CHUNK_STEPS, level.count - first);
      const part = partFor(`${track.levels_at} ${level.offset} ${first}`, first, () =>
        fetched(track.levels_at, level.offset + first * STEP_BYTES, count * STEP_BYTES),
      );
      return part ? { part, step_s: level.step_s } : null;
    },
    /**
     * The small picture of a record time: its sheet, and where it lies there; as near to the time
     * as it must be where each stands for so many seconds.
     * @param {Track} track @param {number} record @param {number} [seconds]
     */
    picture(track, record, seconds = Infinity) {
      const all = track.sheets;
      if (!all) return null;
      const step = stripStep(seconds, all.every_s);
      if (step) {
        const number = Math.max(0, Math.floor(record / step + 0.5));
        const first = Math.floor(number / STRIP) * STRIP;
        const strip = image(`${all.near}&step_ns=${Math.round(step * 1e9)}&first=${first}`);
        const left = (number - first) * all.width;
        // Until it is there what is coarser stands in for it.
        if (strip) return { sheet: strip, left, top: 0, width: all.width, height: all.height };
      }
      const number = Math.min(all.count - 1, Math.max(0, Math.floor(record / all.every_s)));
      const at = all.at[Math.floor(number / (all.columns * all.rows))];
      const place = number % (all.columns * all.rows);
      const sheet = image(at);
      return (
        sheet && {
          sheet,
          left: (place % all.columns) * all.width,
          top: Math.floor(place / all.columns) * all.height,
          width: all.width,
          height: all.height,
        }
      );
    },
    destroy: () => stop.abort(),
  };
}

/** @typedef {ReturnType<typeof takeData>} TakeData */
