import { following, within, zoomed } from "../lib/take_lanes.js";

/**
 * Where one is in a take: the play head, the stretch that is marked, what the lanes show. Tells
 * "at" when the play head has moved, "stretch" and "near" when those are others.
 */
export class TakeView extends EventTarget {
  constructor() {
    super();
    this.at = 0;
    this.total = 0;
    /** @type {[number, number] | null} */
    this.stretch = null;
    this.near = { from: 0, length: 8 };
    /** Whether there are lanes that show it. */
    this.hasLanes = true;
  }

  /** How long the take is. @param {number} total s */
  setTotal(total) {
    this.total = total;
    this.near = within(this.near.from, Math.min(this.near.length, total || 1), total);
    this.go(Math.min(this.at, total), false);
  }

  /** Move the play head; `asked` if somebody did, not the player. @param {number} at @param {boolean} [asked] */
  go(at, asked = true) {
    this.at = Math.min(this.total, Math.max(0, at));
    const near = following(this.near, this.at, this.total);
    if (near !== this.near) this.show(near);
    this.dispatchEvent(new CustomEvent("at", { detail: asked }));
  }

  /** @param {number} a @param {number} b */
  mark(a, b) {
    const [from, until] = [Math.max(0, Math.min(a, b)), Math.min(this.total, Math.max(a, b))];
    this.stretch = until - from > 0.001 ? [from, until] : null;
    this.dispatchEvent(new Event("stretch"));
  }

  forget() {
    this.stretch = null;
    this.dispatchEvent(new Event("stretch"));
  }

  /** @param {{from: number, length: number}} near */
  show(near) {
    this.near = within(near.from, near.length, this.total);
    this.dispatchEvent(new Event("near"));
  }

  /** @param {number} factor @param {number} [about] */
  zoom(factor, about = this.at) {
    this.show(zoomed(this.near, factor, about, this.total));
  }
}
