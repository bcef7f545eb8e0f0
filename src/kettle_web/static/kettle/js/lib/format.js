/** Numbers as people read them, with units. */

/** @param {number} seconds @returns {string} h:mm:ss.t */
export function elapsed(seconds) {
  const tenths = Math.floor(Math.max(0, seconds) * 10 + 1e-6);
  const two = (/** @type {number} */ n) => String(n).padStart(2, "0");
  const whole = Math.floor(tenths / 10);
  return `${Math.floor(whole / 3600)}:${two(Math.floor(whole / 60) % 60)}:${two(whole % 60)}.${tenths % 10}`;
}

/** @param {number} bytes @returns {string} */
export function megabytes(bytes) {
  if (bytes >= 1e10) return `${(bytes / 1e9).toFixed(1)} GB`;
  return bytes < 1e8 ? `${(bytes / 1e6).toFixed(1)} MB` : `${(bytes / 1e6).toFixed(0)} MB`;
}

/** A share of 1 in whole %. @param {number} share */
export function percent(share) {
  return `${Math.round(100 * share)} %`.replace("-", "−");
}

/** @param {number} level a level in dBFS @returns {string} */
export function dbfs(level) {
  if (level <= -100) return "−∞ dBFS";
  return `${level.toFixed(1).replace("-", "−")} dBFS`;
}

/** @param {number} gain a gain or ratio in dB @returns {string} with its sign */
export function decibels(gain) {
  return `${gain < 0 ? "−" : "+"}${Math.abs(gain).toFixed(1)} dB`;
}

/** @param {number} level loudness in LUFS @returns {string} */
export function lufs(level) {
  if (level <= -100) return "−∞ LUFS";
  return `${level.toFixed(1).replace("-", "−")} LUFS`;
}

/** @param {number | null} seconds @returns {string} */
export function timeLeft(seconds) {
  if (seconds === null) return "";
  if (seconds < 60) return `${Math.ceil(seconds)} s left`;
  return `${Math.floor(seconds / 60)} min ${String(Math.ceil(seconds % 60)).padStart(2, "0")} s left`;
}

/**
 * A time as people write it, in a zone; "" for what is no time.
 * @param {string} moment in ISO 8601 @param {string} [zone] the user's own where it is left out
 */
export function inOwnZone(moment, zone) {
  const when = new Date(moment);
  if (Number.isNaN(when.getTime())) return "";
  const how = /** @type {const} */ ({ dateStyle: "long", timeStyle: "short" });
  return new Intl.DateTimeFormat("en-GB", { ...how, timeZone: zone })
    .format(when)
    .replace(" at ", ", ");
}
