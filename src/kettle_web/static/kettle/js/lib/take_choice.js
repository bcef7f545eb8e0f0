/** What of a take is seen and heard: the program with its mix, or tracks. */

export const PROGRAM = "program";

/** @typedef {{name: string, is_picture: boolean, kind: string, play: string}} Playable */

/** What is said where files can't be loaded; "" if all can. @param {string[]} titles */
export function lostWords(titles) {
  return titles.length ? `${titles.join(" and ")} cannot be loaded. Press Play to try again.` : "";
}

export class Choice {
  constructor() {
    this.seen = PROGRAM;
    /** Tracks that are heard; null for the program's own mix. @type {Set<string> | null} */
    this.heard = null;
    /** Tracks as they came, by their first stamps alone; the program has it right always. */
    this.asCame = false;
    /** Whether somebody chose it. */
    this.isMade = false;
    /** @type {Playable[]} */
    this.tracks = [];
    this.hasProgram = false;
  }

  /** What there is by now; without a program its tracks stand in for it. @param {Playable[]} tracks @param {boolean} hasProgram */
  offer(tracks, hasProgram) {
    this.tracks = tracks.filter((one) => one.play);
    const isNew = hasProgram && !this.hasProgram;
    this.hasProgram = hasProgram;
    if (isNew && !this.isMade) this.toProgram();
    if (hasProgram) return;
    if (this.seen === PROGRAM) this.seen = this.tracks.find((one) => one.is_picture)?.name ?? "";
    this.heard ??= this.sounds();
  }

  sounds() {
    return new Set(this.tracks.filter((one) => !one.is_picture).map((one) => one.name));
  }

  /** The names of all that plays; the first one leads. */
  get names() {
    const heard = this.heard === null ? [PROGRAM] : [...this.heard];
    const all =
      this.hasProgram && this.seen === PROGRAM ? [PROGRAM, ...heard] : [...heard, this.seen];
    return [...new Set(all.filter(Boolean))];
  }

  /** Whether a track is heard; the program's mix, if it has no name. @param {string} [name] */
  hears(name) {
    if (name === undefined || name === PROGRAM) return this.heard === null;
    return this.heard?.has(name) ?? false;
  }

  /** @param {string} name */
  isAlone(name) {
    return this.heard?.size === 1 && this.heard.has(name);
  }

  toProgram() {
    this.seen = PROGRAM;
    this.heard = null;
    this.asCame = false;
  }

  /** @param {string} name */
  see(name) {
    this.seen = name;
  }

  /** @param {string} name */
  alone(name) {
    this.heard = new Set([name]);
  }

  /** Take a track out of what is heard, or back in; from the mix on all tracks but this one. @param {string} name */
  mute(name) {
    this.heard ??= this.sounds();
    if (!this.heard.delete(name)) this.heard.add(name);
  }

  /** Tracks as they came, or corrected; of the program what is compared are its tracks. */
  came() {
    this.asCame = !this.asCame;
    if (this.heard !== null) return;
    this.heard = this.sounds();
    const pictures = this.tracks.filter((one) => one.is_picture);
    const webcam = pictures.find((one) => one.kind === "webcam") ?? pictures[0];
    this.seen = webcam?.name ?? this.seen;
  }
}
