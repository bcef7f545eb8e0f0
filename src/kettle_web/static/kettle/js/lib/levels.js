/**
 * Waveforms at levels of detail, as a survey keeps them: least, greatest and RMS of each step as
 * 16 bits, full scale 32767.
 * @typedef {{step_s: number, offset: number, count: number}} Level
 * @typedef {{first: number, values: Int16Array}} Part steps of a level from `first` on, three values each
 */

export const VALUES = 3;
export const STEP_BYTES = 2 * VALUES;

/** The coarsest level that has a step for each px, or the finest there is. */
export function levelFor(/** @type {Level[]} */ levels, /** @type {number} */ secondsPerPx) {
  let found = 0;
  levels.forEach((level, number) => {
    if (level.step_s <= secondsPerPx) found = number;
  });
  return found;
}

const SAMPLE_NS = 20_833;

/**
 * The step of a waveform finer than the survey's finest, in ns; 0 where that is fine enough.
 * @param {number} secondsPerPx @param {number} finest s
 */
export function fineStep(secondsPerPx, finest) {
  if (secondsPerPx >= finest) return 0;
  let step = finest * 1e9;
  while (step / 1e9 > secondsPerPx && step / 2 >= SAMPLE_NS) step /= 2;
  return Math.round(step);
}

/** @param {ArrayBuffer} data little endian @param {number} first @returns {Part} */
export function partOf(data, first) {
  return { first, values: new Int16Array(data, 0, Math.floor(data.byteLength / 2)) };
}

/**
 * What a stretch of record time looks like: [least, greatest, rms] in −1 … 1; null where nothing
 * is known of it.
 * @param {Part} part @param {number} step_s @param {number} from_s @param {number} until_s
 */
export function seen(part, step_s, from_s, until_s) {
  const known = part.values.length / VALUES;
  const first = Math.max(0, Math.floor(from_s / step_s + 1e-6) - part.first);
  const end = Math.min(known, Math.max(first + 1, Math.ceil(until_s / step_s - 1e-6) - part.first));
  if (first >= end || until_s <= part.first * step_s) return null;
  let least = 32767;
  let most = -32767;
  let power = 0;
  for (let n = first; n < end; n += 1) {
    least = Math.min(least, part.values[VALUES * n]);
    most = Math.max(most, part.values[VALUES * n + 1]);
    // The third value is without a sign.
    power += (part.values[VALUES * n + 2] & 0xffff) ** 2;
  }
  return [least / 32767, most / 32767, Math.sqrt(power / (end - first)) / 32767];
}

/** How much a waveform may grow so that its loud parts fill what there is for it. */
export function growth(/** @type {Part} */ part) {
  const peaks = [];
  for (let n = 1; n < part.values.length; n += VALUES) peaks.push(part.values[n]);
  peaks.sort((a, b) => a - b);
  const loud = peaks[Math.floor(peaks.length * 0.995)] ?? 0;
  return 32767 / Math.max(loud, 32767 / 30);
}

/** A strip has so many pictures; they lie a whole part of a second apart that halves. */
export const STRIP = 8;
const NEAREST_S = 1 / 64;

/**
 * How far apart pictures of a strip lie for pictures that stand for so many seconds, in s; 0 where the
 * survey's own are near enough.
 * @param {number} seconds @param {number} everyS
 */
export function stripStep(seconds, everyS) {
  if (seconds > Math.min(everyS, 1) / 2) return 0;
  let step = 0.25;
  while (step > seconds && step > NEAREST_S) step /= 2;
  return step;
}
