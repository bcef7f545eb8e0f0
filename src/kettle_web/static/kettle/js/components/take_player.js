import { fromFile, toFile, toRecord, toTake } from "../lib/take_time.js";

/** A follower further off than this is set to its place, s; nearer ones run a little faster or slower. */
const FAR_S = 0.2;
const NEAR_S = 0.012;
const MOST_FASTER = 0.08;
const PROGRAM = "program";

/**
 * @typedef {{name: string, element: HTMLMediaElement, isPicture: boolean,
 *   toFile: (at: number) => number, fromFile: (file: number) => number}} Voice what plays one file
 */

/**
 * Plays the program, or any track with any others: one file leads, the others follow it. Every
 * file is found at its own time, by the take's clocks.
 * @param {HTMLElement} root @param {import("./take_data.js").TakeData} data
 * @param {import("./take_view.js").TakeView} view
 */
export function mount(root, data, view) {
  const stop = new AbortController();
  const on = { signal: stop.signal };
  /** @type {Map<string, Voice>} */
  const voices = new Map();
  /** What is seen, and the tracks that are heard; null for the program's own mix. */
  let seen = PROGRAM;
  /** @type {Set<string> | null} */
  let heard = null;
  /** Whether somebody said what is to be seen or heard. */
  let chosen = false;
  let playing = false;
  let rate = 1;
  let loops = false;
  /** Tracks as they came, by their first stamps alone. */
  let asCame = false;
  let frame = 0;

  const hasProgram = () => Boolean(data.now?.program);
  const track = (/** @type {string} */ name) => data.now?.tracks.find((one) => one.name === name);

  /** What is seen and heard where the program is not there yet. */
  function settle() {
    const take = data.now;
    if (!take) return;
    if (!hasProgram()) {
      const pictures = take.tracks.filter((one) => one.is_picture && one.play);
      if (seen === PROGRAM) seen = pictures[0]?.name ?? "";
      heard ??= new Set(
        take.tracks.filter((one) => !one.is_picture && one.play).map((t) => t.name),
      );
    }
  }

  /** @param {string} name @returns {Voice | null} */
  function voice(name) {
    const known = voices.get(name);
    if (known) return known;
    const found = track(name);
    const source = name === PROGRAM ? data.now?.program : found?.play;
    if (!source) return null;
    const isPicture = name === PROGRAM || Boolean(found?.is_picture);
    const element = document.createElement(isPicture ? "video" : "audio");
    element.preload = "auto";
    element.src = source;
    element.dataset.plays = name;
    element.addEventListener("loadedmetadata", () => place(name), on);
    root.append(element);
    const pieces = () => data.now?.pieces ?? [];
    /** @type {Voice} */
    const made = {
      name,
      element,
      isPicture,
      toFile(at) {
        if (name === PROGRAM) return at;
        const [knots, shift] = laid(name);
        return toFile(knots, toRecord(pieces(), at), shift);
      },
      fromFile(file) {
        if (name === PROGRAM) return file;
        const [knots, shift] = laid(name);
        return toTake(pieces(), fromFile(knots, file, shift));
      },
    };
    voices.set(name, made);
    return made;
  }

  /** How a track's file lies in the take. @param {string} name @returns {[[number, number, number][], number]} */
  function laid(name) {
    const found = track(name);
    if (!found) return [[[0, 0, 1]], 0];
    return asCame ? [found.came, 0] : [found.knots, found.shift_s];
  }

  /** The names of all that plays; the first one leads. */
  const names = () => {
    const found = heard === null ? [PROGRAM] : [...heard];
    const all = hasProgram() && seen === PROGRAM ? [PROGRAM, ...found] : [...found, seen];
    return [...new Set(all.filter(Boolean))];
  };
  const leader = () => voice(names()[0] ?? "");

  /** Everything to its place: seen or not, heard or not, playing or not. */
  function arrange() {
    settle();
    const wanted = names();
    for (const name of wanted) voice(name);
    for (const [name, one] of voices) {
      const isHeard = heard === null ? name === PROGRAM : heard.has(name);
      one.element.muted = !isHeard;
      one.element.hidden = name !== seen;
      one.element.playbackRate = rate;
      if (!wanted.includes(name)) one.element.pause();
      else {
        place(name);
        if (playing) start(one.element);
        else one.element.pause();
      }
    }
    root.dispatchEvent(new Event("player:changed"));
  }

  /** @param {HTMLMediaElement} element */
  function start(element) {
    if (element.paused && !element.ended) element.play().catch(() => {});
  }

  /** @param {string} name */
  function place(name) {
    const one = voices.get(name);
    if (!one || one.element.readyState < 1) return;
    const wanted = one.toFile(view.at);
    if (Math.abs(one.element.currentTime - wanted) > NEAR_S) one.element.currentTime = wanted;
  }

  function go() {
    for (const name of names()) place(name);
  }

  function tick() {
    frame = 0;
    const first = leader();
    if (!playing || !first) return;
    const file = first.element.currentTime;
    let at = first.fromFile(file);
    const until = loops && view.stretch ? view.stretch[1] : view.total;
    if (at >= until - 0.001 || first.element.ended) {
      if (loops && view.stretch) {
        view.go(view.stretch[0]);
        go();
        for (const name of names()) start(/** @type {Voice} */ (voice(name)).element);
      } else {
        pause();
        view.go(until, false);
        return;
      }
      at = view.at;
    } else if (!first.element.seeking) {
      view.go(at, false);
      follow(first, at, file);
    }
    frame = requestAnimationFrame(tick);
  }

  /** The others, to where the first one is; over a pause that was closed all jump. @param {Voice} first @param {number} at @param {number} file */
  function follow(first, at, file) {
    const ahead = first.toFile(at) - file;
    if (ahead > FAR_S) first.element.currentTime = first.toFile(at);
    for (const name of names()) {
      const one = voices.get(name);
      if (!one || one === first || one.element.readyState < 2 || one.element.seeking) continue;
      start(one.element);
      const late = one.toFile(at) - one.element.currentTime;
      if (Math.abs(late) > FAR_S) one.element.currentTime = one.toFile(at);
      const by = Math.abs(late) < NEAR_S ? 0 : Math.max(-MOST_FASTER, Math.min(MOST_FASTER, late));
      const wanted = rate * (1 + by);
      if (Math.abs(one.element.playbackRate - wanted) > 0.004) one.element.playbackRate = wanted;
    }
  }

  function play() {
    if (view.at >= view.total - 0.05) view.go(loops && view.stretch ? view.stretch[0] : 0);
    if (loops && view.stretch && (view.at < view.stretch[0] || view.at >= view.stretch[1]))
      view.go(view.stretch[0]);
    playing = true;
    arrange();
    if (!frame) frame = requestAnimationFrame(tick);
  }

  function pause() {
    playing = false;
    for (const one of voices.values()) one.element.pause();
    arrange();
  }

  view.addEventListener(
    "at",
    (event) => {
      if (/** @type {CustomEvent} */ (event).detail) go();
    },
    on,
  );

  return {
    get playing() {
      return playing;
    },
    get seen() {
      return seen;
    },
    /** Whether a track is heard; of the program's mix if it has no name. @param {string} [name] */
    hears: (name) => (name ? (heard?.has(name) ?? false) : heard === null),
    /** Whether a track is all that is heard. @param {string} name */
    isAlone: (name) => heard?.size === 1 && heard.has(name),
    toggle: () => (playing ? pause() : play()),
    pause,
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
    },
    /** @param {string} name */
    see(name) {
      chosen = true;
      seen = name;
      arrange();
    },
    get asCame() {
      return asCame;
    },
    /** Tracks as they came, or corrected; the program always is. */
    came() {
      asCame = !asCame;
      if (heard === null) {
        // The program has it right: what is compared are the tracks.
        const take = data.now?.tracks.filter((one) => one.play) ?? [];
        heard = new Set(take.filter((one) => !one.is_picture).map((one) => one.name));
        const webcam = take.find((one) => one.kind === "webcam") ?? take.find((t) => t.is_picture);
        seen = webcam?.name ?? seen;
      }
      arrange();
    },
    /** The program as it is: picture and mix. */
    program() {
      chosen = true;
      seen = PROGRAM;
      heard = null;
      asCame = false;
      arrange();
    },
    /** One track alone. @param {string} name */
    alone(name) {
      chosen = true;
      heard = new Set([name]);
      arrange();
    },
    /** Take a track out of what is heard, or back in; from the mix on all tracks but this one. @param {string} name */
    mute(name) {
      chosen = true;
      const sounds = data.now?.tracks.filter((one) => !one.is_picture && one.play) ?? [];
      heard ??= new Set(sounds.map((one) => one.name));
      if (!heard.delete(name)) heard.add(name);
      arrange();
    },
    /** The take has changed: a file that is another one has another address. */
    refresh() {
      for (const one of voices.values()) {
        const next = one.name === PROGRAM ? data.now?.program : track(one.name)?.play;
        if (next && one.element.getAttribute("src") !== next) one.element.src = next;
      }
      if (!voices.has(PROGRAM) && hasProgram() && !chosen && !playing) {
        seen = PROGRAM;
        heard = null;
      }
      arrange();
    },
    destroy() {
      stop.abort();
      cancelAnimationFrame(frame);
      for (const one of voices.values()) one.element.remove();
    },
  };
}

/** @typedef {ReturnType<typeof mount>} TakePlayer */
