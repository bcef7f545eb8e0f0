const RATE_HZ = 48000;
const AHEAD_S = 0.12;

/**
 * Plays a sound after its chain while it is asked to: off at first, as loudspeakers near the
 * microphone would feed back.
 * @param {HTMLElement} live the element that tells `live:sound`; data-after names the input
 * @param {HTMLInputElement} box the switch
 */
export function mount(live, box) {
  const stop = new AbortController();
  const input = live.dataset.after ?? "";
  /** @type {AudioContext | null} */
  let output = null;
  let next = 0;

  box.addEventListener(
    "change",
    () => {
      void output?.close();
      output = box.checked ? new AudioContext({ sampleRate: RATE_HZ }) : null;
      next = 0;
      const look = { after: [input], hear: box.checked ? [input] : [] };
      live.dispatchEvent(new CustomEvent("live:look", { detail: JSON.stringify({ look }) }));
      box.dataset.heard = "0";
    },
    { signal: stop.signal },
  );
  live.addEventListener(
    "live:sound",
    (event) => {
      const { data } = /** @type {CustomEvent<{data: Uint8Array}>} */ (event).detail;
      const samples = Math.floor(data.byteLength / 2);
      if (!output || !samples) return;
      const values = new Int16Array(data.slice(0, samples * 2).buffer);
      const buffer = output.createBuffer(1, samples, RATE_HZ);
      buffer.copyToChannel(
        Float32Array.from(values, (v) => v / 32768),
        0,
      );
      const source = output.createBufferSource();
      source.buffer = buffer;
      source.connect(output.destination);
      // After a gap it begins anew, a little ahead, so that blocks follow without clicks.
      if (next < output.currentTime) next = output.currentTime + AHEAD_S;
      source.start(next);
      next += samples / RATE_HZ;
      box.dataset.heard = String(Number(box.dataset.heard ?? 0) + samples);
    },
    { signal: stop.signal },
  );
  return {
    destroy() {
      stop.abort();
      void output?.close();
    },
  };
}
