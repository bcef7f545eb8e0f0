import { Choice, lostWords } from "../lib/take_choice.js";
import { PlanMedia } from "./plan_media.js";
import { takeFiles } from "./take_files.js";

/** A follower further off than this is set to its place, s; nearer ones run a little faster or slower. */
const FAR_S = 0.2;
const NEAR_S = 0.012;
const MOST_FASTER = 0.08;
/** As in kettle_media/player/player.py, s. */
const LEAST_LOOP_S = 0.2;

/**
 * Plays what is chosen of a take: one file leads, the others follow it, each at its own time.
 * @param {HTMLElement} root @param {{now: import("./take_data.js").Overview | null}} data
 * @param {import("./take_view.js").TakeView} view
 */
export function mount(root, data, view) {
  const stop = new AbortController();
  const choice = new Choice();
  const files = takeFiles(root, data, choice, place, tell);
  let playing = false;
  let rate = 1;
  let loops = false;
  let frame = 0;

  /** Everything to its place: seen or not, heard or not, playing or not. What plays runs on: the play head follows it. */
  function arrange() {
    if (data.now) choice.offer(data.now.tracks, Boolean(data.now.program || data.now.plan));
    const wanted = choice.names;
    for (const name of wanted) files.element(name);
    for (const [name, one] of files.elements) {
      one.muted = !choice.hears(name);
      one.hidden = name !== choice.seen;
      one.playbackRate = rate;
      if (one instanceof PlanMedia) one.stretch = looped();
      if (wanted.includes(name) && !(playing && !one.paused)) place(name);
      if (wanted.includes(name) && playing) start(one);
      else one.pause();
    }
    tell();
  }

  function tell() {
    root.dispatchEvent(new Event("player:changed"));
  }

  /** @param {import("./take_files.js").Playable} element */
  function start(element) {
    if (element.paused && !element.ended) element.play().catch(() => {});
  }

  /** @param {string} name */
  function place(name) {
    const one = files.elements.get(name);
    if (!one || one.readyState < 1) return;
    const wanted = files.toFile(name, view.at);
    if (Math.abs(one.currentTime - wanted) > NEAR_S) one.currentTime = wanted;
  }

  /** Where a stretch that is looped begins and ends; the whole take, if none is. */
  const bounds = () => (loops && view.stretch) || [0, view.total];

  /** What a plan goes on with by itself; shorter stretches begin anew each time. @returns {[number, number] | null} */
  const looped = () => {
    const stretch = loops && playing ? view.stretch : null;
    return stretch && stretch[1] - stretch[0] >= LEAST_LOOP_S ? stretch : null;
  };

  function tick() {
    frame = 0;
    const first = choice.names[0] ?? "";
    const leader = files.element(first);
    if (!playing || !leader) return;
    const file = leader.currentTime;
    const at = files.toTake(first, file);
    const [from, until] = bounds();
    if (leader instanceof PlanMedia ? leader.failed : files.failed.has(first)) {
      pause();
      return;
    }
    if (leader instanceof PlanMedia) leader.stretch = looped();
    const runsOn = leader instanceof PlanMedia && leader.stretch !== null;
    if ((at >= until - 0.001 && !runsOn) || leader.ended) {
      if (!loops || !view.stretch) {
        pause();
        view.go(until, false);
        return;
      }
      view.go(from);
      arrange();
    } else if (!leader.seeking && leader.readyState > 0) {
      view.go(at, false);
      follow(first, leader, file, at);
    }
    frame = requestAnimationFrame(tick);
  }

  /**
   * The others to where the first one is; over a pause that was closed all jump.
   * @param {string} first @param {import("./take_files.js").Playable} leader
   * @param {number} file where it is: asked again it may be at a loop's beginning @param {number} at
   */
  function follow(first, leader, file, at) {
    const ahead = files.toFile(first, at);
    if (ahead - file > FAR_S) leader.currentTime = ahead;
    for (const name of choice.names) {
      const one = files.elements.get(name);
      if (!one || one === leader || one.readyState < 2 || one.seeking) continue;
      start(one);
      const late = files.toFile(name, at) - one.currentTime;
      if (Math.abs(late) > FAR_S) one.currentTime += late;
      const by = Math.abs(late) < NEAR_S ? 0 : Math.max(-MOST_FASTER, Math.min(MOST_FASTER, late));
      const wanted = rate * (1 + by);
      if (Math.abs(one.playbackRate - wanted) > 0.004) one.playbackRate = wanted;
    }
  }

  function play() {
    const [from, until] = bounds();
    if (view.at < from || view.at >= until - 0.05) view.go(from);
    playing = true;
    files.again();
    arrange();
    if (!frame) frame = requestAnimationFrame(tick);
  }

  function pause() {
    playing = false;
    files.refresh(playing);
    arrange();
  }

  /** Choose what is seen or heard. @param {() => void} how */
  function choose(how) {
    choice.isMade = true;
    how();
    arrange();
  }

  view.addEventListener(
    "at",
    (event) => {
      if (/** @type {CustomEvent} */ (event).detail) for (const name of choice.names) place(name);
    },
    { signal: stop.signal },
  );

  return {
    choice,
    get playing() {
      return playing;
    },
    /** What can't be played, in words; "" if all can. */
    get lost() {
      return lostWords(files.lost);
    },
    get loops() {
      return loops;
    },
    toggle: () => (playing ? pause() : play()),
    choose,
    /** @param {number} frames */
    step(frames) {
      if (playing) pause();
      const one = 1 / (data.now?.fps ?? 30);
      view.go((Math.round(view.at / one) + frames) * one);
    },
    /** @param {number} wanted */
    setRate(wanted) {
      rate = wanted;
      arrange();
    },
    /** @param {boolean} wanted */
    setLoop(wanted) {
      loops = wanted;
      arrange();
    },
    /** The take has changed, or what was made of it. */
    refresh() {
      files.refresh(playing);
      arrange();
    },
    destroy() {
      stop.abort();
      cancelAnimationFrame(frame);
      files.destroy();
    },
  };
}

/** @typedef {ReturnType<typeof mount>} TakePlayer */
