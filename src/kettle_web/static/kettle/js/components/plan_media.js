import { waitBefore } from "../lib/live_message.js";
import {
  END,
  folded,
  PICTURE,
  playMessage,
  SOUND,
  SOUND_HZ,
  SoundClock,
  samplesOf,
  TROUBLE,
} from "../lib/play_message.js";

/** So long after it came a piece of sound can be heard, s. */
const LEAST_S = 0.04;
const TELL_EVERY_MS = 100;
/** When nothing has come for so long, it is said that it is being opened. */
const WAITS_MS = 700;
/** A picture is drawn when it is nearer to its time than to the next one's. */
const EARLY_S = 0.02;
/** One that is later than this is left out, unless nothing was drawn for a while. */
const LATE_S = 0.04;
const WHILE_S = 0.25;

/** @type {AudioContext | null} */
let shared = null;

/**
 * Plays a plan as if it were a media file: pictures and sound come from a player process by a
 * WebSocket. The sound is the clock; a picture that comes too late is left out.
 *
 * Of HTMLMediaElement it has what our player uses: `src`, `currentTime`, `playbackRate`, `muted`,
 * `paused`, `ended`, `seeking`, `readyState`, `play()` and `pause()`. A `stretch` is played over
 * and over without a gap: what comes from the process runs on, `currentTime` is where it lies.
 */
export class PlanMedia extends HTMLElement {
  #canvas = document.createElement("canvas");
  #words = document.createElement("p");
  /** @type {WebSocket | null} */
  #socket = null;
  #tries = 0;
  #turn = 0;
  #at = 0;
  #rate = 1;
  /** @type {[number, number] | null} */
  #loop = null;
  #muted = false;
  #anew = false;
  #ended = false;
  /** @type {number | null} */
  #endsAt = null;
  /** @type {SoundClock | null} */
  #clock = null;
  /** @type {GainNode | null} */
  #gain = null;
  /** @type {{at: number, bitmap: ImageBitmap}[]} */
  #pictures = [];
  /** By how much a picture came too late since it was told, s of the listener's time. */
  #late = 0;
  /** When a picture was drawn last, by the time that runs on. */
  #drawn = 0;
  #frame = 0;
  #timer = 0;
  #waits = 0;
  #again = 0;

  paused = true;
  seeking = false;
  /** It said what is wrong, and plays when it is asked to again. */
  failed = false;
  /** It can be set to any place, and begins when there is something to be heard. */
  readyState = 4;

  connectedCallback() {
    this.#canvas.width = 16;
    this.#canvas.height = 9;
    this.#words.setAttribute("role", "status");
    this.#words.hidden = true;
    this.append(this.#canvas, this.#words);
    this.#connect();
  }

  disconnectedCallback() {
    this.#stop();
    window.clearTimeout(this.#again);
    const socket = this.#socket;
    this.#socket = null;
    socket?.close();
  }

  get src() {
    return this.getAttribute("src") ?? "";
  }

  /** Another address of the same take: it is another one by now. */
  set src(address) {
    const before = this.src;
    this.setAttribute("src", address);
    if (!this.isConnected || !before) return;
    this.#anew = true;
    this.#begin(this.currentTime);
  }

  get currentTime() {
    return folded(this.#running, this.#loop);
  }

  /** The time that runs on over the ends of a loop. */
  get #running() {
    return this.#clock && shared ? this.#clock.at(this.#now(shared)) : this.#at;
  }

  get stretch() {
    return this.#loop;
  }

  /** What is played over and over, from and until in s; null for all, once. */
  set stretch(loop) {
    if (String(loop) === String(this.#loop)) return;
    const at = this.currentTime;
    this.#loop = loop;
    if (!this.paused) this.#begin(at);
  }

  set currentTime(at) {
    this.#begin(at);
  }

  get ended() {
    return this.#ended;
  }

  get playbackRate() {
    return this.#rate;
  }

  set playbackRate(rate) {
    if (rate === this.#rate) return;
    const at = this.currentTime;
    this.#rate = rate;
    if (!this.paused) this.#begin(at);
  }

  get muted() {
    return this.#muted;
  }

  set muted(muted) {
    this.#muted = muted;
    if (this.#gain) this.#gain.gain.value = muted ? 0 : 1;
  }

  async play() {
    shared ??= new AudioContext({ sampleRate: SOUND_HZ, latencyHint: "interactive" });
    void shared.resume();
    if (!this.paused) return;
    const at = this.currentTime;
    this.paused = false;
    this.#begin(at);
  }

  pause() {
    if (this.paused) return;
    const at = this.currentTime;
    this.paused = true;
    this.#begin(at);
  }

  /** What is heard now, not what was given to the device. @param {AudioContext} context */
  #now(context) {
    return context.currentTime - (context.outputLatency || 0);
  }

  /** Begin anew at a place. @param {number} at */
  #begin(at) {
    this.#stop();
    this.#turn += 1;
    this.#at = at;
    this.#ended = this.failed = false;
    this.#endsAt = null;
    this.#late = 0;
    this.#drawn = at;
    this.seeking = !this.paused;
    if (shared && !this.paused) {
      this.#gain = new GainNode(shared, { gain: this.#muted ? 0 : 1 });
      this.#gain.connect(shared.destination);
      this.#timer = window.setInterval(() => this.#tell(), TELL_EVERY_MS);
      this.#frame = requestAnimationFrame(() => this.#draw());
      this.#waits = window.setTimeout(() => this.#say("It is being opened."), WAITS_MS);
    }
    this.#tell();
  }

  #stop() {
    window.clearInterval(this.#timer);
    window.clearTimeout(this.#waits);
    cancelAnimationFrame(this.#frame);
    this.#gain?.disconnect();
    this.#gain = null;
    this.#clock = null;
    for (const one of this.#pictures) one.bitmap.close();
    this.#pictures = [];
  }

  #connect() {
    const scheme = location.protocol === "https:" ? "wss" : "ws";
    const socket = new WebSocket(`${scheme}://${location.host}${this.src}`);
    this.#socket = socket;
    socket.binaryType = "arraybuffer";
    socket.addEventListener("open", () => {
      this.#tries = 0;
      this.#begin(this.currentTime);
    });
    socket.addEventListener("message", (event) => void this.#take(event.data));
    socket.addEventListener("close", (event) => {
      // Without a take there is nothing to come back for.
      if (this.#socket !== socket || event.code === 4404) return;
      this.#again = window.setTimeout(() => this.#connect(), waitBefore(this.#tries++));
    });
  }

  #tell() {
    if (this.#socket?.readyState !== WebSocket.OPEN) return;
    const where = { turn: this.#turn, at: this.#running, rate: this.#rate, loop: this.#loop };
    const order = { ...where, playing: !this.paused, anew: this.#anew, late: this.#late };
    this.#socket.send(JSON.stringify(order));
    this.#anew = false;
    this.#late = 0;
  }

  /** @param {ArrayBuffer} data */
  async #take(data) {
    const { kind, turn, at, body } = playMessage(data);
    if (kind === TROUBLE) this.#fail(new TextDecoder().decode(body));
    if (turn !== this.#turn) return;
    if (kind === SOUND) this.#hear(at, body);
    if (kind === END) this.#endsAt = at;
    if (kind !== PICTURE) return;
    // Nothing is drawn of a page that is not seen; it is heard all the same.
    if (document.hidden && !this.paused && this.#clock) return;
    const bitmap = await createImageBitmap(new Blob([body], { type: "image/jpeg" }));
    if (turn !== this.#turn) bitmap.close();
    else if (this.paused || !this.#clock) this.#show(bitmap, at);
    else {
      this.#late = Math.max(this.#late, (this.#running - at) / this.#rate);
      this.#pictures.push({ at, bitmap });
      // Decoding may overtake.
      this.#pictures.sort((a, b) => a.at - b.at);
    }
    if (turn === this.#turn && this.paused) this.seeking = false;
  }

  /** @param {number} at @param {Uint8Array<ArrayBuffer>} body */
  #hear(at, body) {
    if (!shared || !this.#gain) return;
    this.#clock ??= new SoundClock(at, this.#rate);
    this.seeking = false;
    window.clearTimeout(this.#waits);
    const [left, right] = samplesOf(body);
    const buffer = new AudioBuffer({
      length: left.length,
      numberOfChannels: 2,
      sampleRate: SOUND_HZ,
    });
    buffer.copyToChannel(left, 0);
    buffer.copyToChannel(right, 1);
    const source = new AudioBufferSourceNode(shared, { buffer });
    source.connect(this.#gain);
    source.start(this.#clock.lay(left.length, shared.currentTime, LEAST_S));
  }

  #draw() {
    this.#frame = requestAnimationFrame(() => this.#draw());
    const now = this.#running;
    const due = this.#pictures.filter((one) => one.at <= now + EARLY_S * this.#rate);
    const newest = due.pop();
    for (const one of due) one.bitmap.close();
    if (newest) {
      this.#pictures = this.#pictures.filter((one) => one.at > newest.at);
      const late = now - newest.at > LATE_S * this.#rate;
      if (!late || now - this.#drawn > WHILE_S * this.#rate) {
        this.#drawn = now;
        this.#show(newest.bitmap, newest.at);
      } else newest.bitmap.close();
    }
    if (this.#endsAt !== null && now >= this.#endsAt - 0.005) {
      const at = this.#endsAt;
      this.paused = true;
      this.#stop();
      this.#at = at;
      this.#ended = true;
    }
  }

  /** @param {ImageBitmap} bitmap @param {number} at */
  #show(bitmap, at) {
    this.dataset.shows = folded(at, this.#loop).toFixed(4);
    const canvas = this.#canvas;
    if (canvas.width !== bitmap.width) canvas.width = bitmap.width;
    if (canvas.height !== bitmap.height) canvas.height = bitmap.height;
    canvas.getContext("2d")?.drawImage(bitmap, 0, 0);
    bitmap.close();
    window.clearTimeout(this.#waits);
    this.#words.hidden = true;
  }

  /** @param {string} words */
  #say(words) {
    this.#words.textContent = words;
    this.#words.hidden = false;
  }

  /** @param {string} words */
  #fail(words) {
    this.#say(words);
    this.#stop();
    this.paused = this.failed = true;
    this.seeking = false;
  }
}

customElements.define("plan-media", PlanMedia);
