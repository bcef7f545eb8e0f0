/** What a player says (kettle_media/player/messages.py), and the sound in it. */

export const PICTURE = 0;
export const SOUND = 1;
export const END = 2;
export const TROUBLE = 3;

export const SOUND_HZ = 48000;
const HEAD_BYTES = 13;

/**
 * @param {ArrayBuffer} buffer
 * @returns {{kind: number, turn: number, at: number, body: Uint8Array<ArrayBuffer>}} `at` in s
 */
export function playMessage(buffer) {
  const head = new DataView(buffer);
  return {
    kind: head.getUint8(0),
    turn: head.getUint32(1, true),
    at: head.getFloat64(5, true),
    body: new Uint8Array(buffer, HEAD_BYTES),
  };
}

/**
 * Two channels of samples.
 * @param {Uint8Array<ArrayBuffer>} body int16, interleaved
 * @returns {[Float32Array<ArrayBuffer>, Float32Array<ArrayBuffer>]}
 */
export function samplesOf(body) {
  const packed = new Int16Array(body.slice().buffer);
  const [left, right] = [new Float32Array(packed.length / 2), new Float32Array(packed.length / 2)];
  for (let n = 0; n < left.length; n++) {
    left[n] = packed[2 * n] / 32768;
    right[n] = packed[2 * n + 1] / 32768;
  }
  return [left, right];
}

/**
 * Where in the program a time lies that runs on over the ends of a loop.
 * @param {number} at s @param {[number, number] | null} loop from and until, s
 */
export function folded(at, loop) {
  if (!loop || at < loop[1]) return at;
  return loop[0] + ((at - loop[0]) % (loop[1] - loop[0]));
}

/**
 * Where one is in sound that is laid end to end on another clock. What comes too late moves the
 * rest back; one is never further than the sound that is there.
 */
export class SoundClock {
  /** @param {number} from the program time of the first sample, s @param {number} rate */
  constructor(from, rate) {
    this.from = from;
    this.rate = rate;
    this.begins = 0;
    this.laid = 0;
  }

  /** Where the next piece begins on the other clock. @param {number} samples @param {number} now @param {number} least how soon it can be heard, s */
  lay(samples, now, least) {
    const free = this.begins + this.laid / SOUND_HZ;
    if (!this.laid) this.begins = now + least;
    else if (free < now) this.begins += now + least - free;
    const at = this.begins + this.laid / SOUND_HZ;
    this.laid += samples;
    return at;
  }

  /** The program time that is heard. @param {number} now */
  at(now) {
    const heard = Math.min(Math.max(0, now - this.begins), this.laid / SOUND_HZ);
    return this.from + heard * this.rate;
  }
}
