/**
 * The seconds round the play head, side by side: what is seen, and how near.
 * @typedef {{from: number, length: number}} Near s
 */

export const LEAST_S = 0.02;
const ROUND_S = [
  0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300, 600,
];
const MARK_PX = 90;

/** A stretch within the take. @param {number} from @param {number} length @param {number} total @returns {Near} */
export function within(from, length, total) {
  const kept = Math.min(Math.max(length, LEAST_S), Math.max(total, LEAST_S));
  return { from: Math.min(Math.max(0, from), Math.max(0, total - kept)), length: kept };
}

/** Nearer or further by a factor, with a time staying where it is. @param {Near} near @param {number} factor @param {number} at @param {number} total */
export function zoomed(near, factor, at, total) {
  const share = Math.min(1, Math.max(0, (at - near.from) / near.length));
  const length = Math.min(Math.max(near.length * factor, LEAST_S), Math.max(total, LEAST_S));
  return within(at - share * length, length, total);
}

/** What shows a time; as it is where the time is seen already. @param {Near} near @param {number} at @param {number} total */
export function following(near, at, total) {
  const edge = near.length * 0.02;
  if (at >= near.from - 1e-9 && at <= near.from + near.length - edge) return near;
  return within(at - near.length * 0.1, near.length, total);
}

/** Times at which the rule has marks. @param {Near} near @param {number} px width */
export function marks(near, px) {
  const step = ROUND_S.find((one) => (one / near.length) * px >= MARK_PX) ?? 600;
  const found = [];
  for (
    let n = Math.ceil(near.from / step - 1e-9);
    n * step <= near.from + near.length + 1e-9;
    n += 1
  )
    found.push(n * step);
  return { step, times: found };
}

/** A time as a rule shows it, as exact as its step. @param {number} at @param {number} step */
export function ruleTime(at, step) {
  const digits = step >= 1 ? 0 : step >= 0.1 ? 1 : step >= 0.01 ? 2 : 3;
  const scale = 10 ** digits;
  const parts = Math.round(at * scale);
  const whole = Math.floor(parts / scale);
  const two = (/** @type {number} */ n) => String(n).padStart(2, "0");
  const hours = Math.floor(whole / 3600);
  const minutes = Math.floor(whole / 60) % 60;
  const text = hours
    ? `${hours}:${two(minutes)}:${two(whole % 60)}`
    : `${minutes}:${two(whole % 60)}`;
  return digits ? `${text}.${String(parts % scale).padStart(digits, "0")}` : text;
}

/** Nearer to each other than this, px, two labels are of one moment. */
const ONE_MOMENT = 6;

/**
 * Labels along a line that don't cover each other: those of one moment joined, each with how far it may reach.
 * @param {[number, string][]} places px and words, rising @param {number} end px
 * @returns {[number, string, number][]} px, words, px where the next one begins
 */
export function labels(places, end) {
  /** @type {[number, string, number][]} */
  const found = [];
  for (const [x, words] of places) {
    const last = found.at(-1);
    if (last && x - last[0] < ONE_MOMENT) {
      last[1] += ` · ${words}`;
      continue;
    }
    if (last) last[2] = x;
    found.push([x, words, Math.max(end, x)]);
  }
  return found;
}
