/**
 * What the Record page says of what the engine tells; pure.
 *
 * @typedef {{
 *   elapsed_s: number, take_s?: number, size_bytes: number, head_room: number,
 *   left_s?: number | null, worst_late_ms: number, trouble: string[], paused?: boolean,
 *   scene?: string, hidden?: string[], muted?: string[], near?: string[], marks?: number,
 *   step_id?: string, step_s?: number, layers?: any[], ended?: string[], away?: string[], steps?: string[][],
 *   tracks: Record<string, {written: number, dropped: number}>,
 * }} Take
 */
import { elapsed, megabytes, percent } from "./format.js";

export const WORDS = {
  idle: "Opening the rig",
  watching: "Ready",
  countdown: "Counting down",
  recording: "Recording",
  finishing: "Finishing the take",
  absent: "Engine not running",
  failed: "Fault",
  lost: "Connection lost",
};
const TAKING = ["countdown", "recording", "finishing"];
const LITTLE_S = 600;

/** Whether a take is counted down, recorded or ended. @param {string} state */
export const isTaking = (state) => TAKING.includes(state);

/** Seconds as m:ss. @param {number} seconds */
export function minutes(seconds) {
  const whole = Math.floor(Math.max(0, seconds) + 1e-6);
  return `${Math.floor(whole / 60)}:${String(whole % 60).padStart(2, "0")}`;
}

/** A length that is left. @param {number} seconds */
export function lengthLeft(seconds) {
  if (seconds < 90) return `${Math.floor(seconds)} s`;
  const whole = Math.floor(seconds / 60);
  return whole < 120 ? `${whole} min` : `${Math.floor(whole / 60)} h`;
}

/** Quiet figures of a take. @param {Take} take */
export function figures(take) {
  const parts = [megabytes(take.size_bytes)];
  if (take.left_s) parts.push(`room for ${lengthLeft(take.left_s)}`);
  if (take.elapsed_s > 1) parts.push(`${percent(take.head_room)} head-room`);
  if (take.marks) parts.push(take.marks === 1 ? "1 mark" : `${take.marks} marks`);
  return parts.join(" · ");
}

/**
 * How it goes, in a word or two; sentences say the rest.
 * @param {Take} take
 * @returns {{words: string, state: "good" | "look" | "fault"}}
 */
export function health(take) {
  const away = take.away?.length ?? 0;
  if (away) {
    return { words: away === 1 ? "A device is away" : `${away} devices are away`, state: "fault" };
  }
  const ended = take.ended?.length ?? 0;
  if (ended) {
    return {
      words: ended === 1 ? "A track has ended" : `${ended} tracks have ended`,
      state: "fault",
    };
  }
  if (take.trouble.length || (take.left_s ?? LITTLE_S) < LITTLE_S) {
    return { words: "Look at this", state: "look" };
  }
  return { words: take.paused ? "All is well, paused" : "All is well", state: "good" };
}

/**
 * The page's title: while recording it says so, and how to stop.
 * @param {string} state @param {Take | undefined} take @param {string} name @param {string} key
 */
export function titleOf(state, take, name, key) {
  if (state === "countdown") return `Begins … · ${key} stops · ${name}`;
  if (state !== "recording") return `Record · ${name}`;
  const at = elapsed(take?.take_s ?? take?.elapsed_s ?? 0).slice(0, -2);
  return `● ${at}${take?.paused ? " paused" : ""} · ${key} stops · ${name}`;
}

/** What would be thrown away, in words. @param {Take | undefined} take */
export function wouldLose(take) {
  if (!take) return "What was recorded of this take";
  const marks = take.marks ? ` with ${take.marks === 1 ? "1 mark" : `${take.marks} marks`}` : "";
  return `${minutes(take.take_s ?? take.elapsed_s)} of this take, ${megabytes(take.size_bytes)}${marks},`;
}

/**
 * How a step stands: before, now with the time spent, or done.
 * @param {string[]} ids of all steps in their order @param {string} id @param {Take | undefined} take
 */
export function stepState(ids, id, take) {
  const now = ids.indexOf(take?.step_id ?? "");
  const at = ids.indexOf(id);
  if (now < 0 || at > now) return { state: "ahead", spent: "" };
  if (at < now) return { state: "done", spent: "" };
  return { state: "now", spent: minutes(take?.step_s ?? 0) };
}

/**
 * Knows what was told last of a take. The answer to a press comes at once, what the engine tells
 * by itself may be from before it: that is left out.
 */
export function newestCues() {
  let cues = 0;
  let elapsed = 0;
  return {
    /** @param {{cues?: number, elapsed_s?: number}} told @returns whether it may be shown */
    isNew(told) {
      // Of a take that was begun over nothing is older.
      if (told.elapsed_s !== undefined) {
        if (told.elapsed_s < elapsed) cues = 0;
        elapsed = told.elapsed_s;
      }
      if ((told.cues ?? 0) < cues) return false;
      cues = told.cues ?? 0;
      return true;
    },
    /** There is no take any more. */
    forget() {
      cues = 0;
      elapsed = 0;
    },
  };
}

/** The step after the present one. @param {string[]} ids @param {Take | undefined} take */
export function nextStep(ids, take) {
  return ids[ids.indexOf(take?.step_id ?? "") + 1];
}
