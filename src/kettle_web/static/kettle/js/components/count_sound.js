const HIGH_HZ = 880;
const LOW_HZ = 660;
const LENGTH_S = 0.09;

/**
 * Lets the countdown be heard where its box is ticked: a short tone a second, never at 0, so that
 * none is in the take.
 * @param {HTMLElement} live the element that tells `live:status`
 */
export function mount(live) {
  const stop = new AbortController();
  /** @type {AudioContext | null} */
  let context = null;
  let last = 0;

  const tone = (/** @type {number} */ hz) => {
    context ??= new AudioContext();
    const [from, gain] = [context.createOscillator(), context.createGain()];
    from.frequency.value = hz;
    gain.gain.setValueAtTime(0.2, context.currentTime);
    gain.gain.exponentialRampToValueAtTime(0.001, context.currentTime + LENGTH_S);
    from.connect(gain).connect(context.destination);
    from.start();
    from.stop(context.currentTime + LENGTH_S);
  };

  live.addEventListener(
    "live:status",
    (event) => {
      const status = /** @type {CustomEvent} */ (event).detail;
      const left = status.state === "countdown" ? Math.ceil(status.starts_in_s ?? 0) : 0;
      const box = /** @type {HTMLInputElement | null} */ (
        document.querySelector("[data-start-form] [name=heard]")
      );
      if (box?.checked && left > 0 && left !== last && (status.starts_in_s ?? 0) > 2 * LENGTH_S) {
        tone(left === 1 ? HIGH_HZ : LOW_HZ);
      }
      last = left;
    },
    { signal: stop.signal },
  );
  return { destroy: () => stop.abort() };
}
