/**
 * Draws live pictures on the canvases that carry an input's name in data-picture, and tells the
 * live connection which are in view, in which size (data-size), and which are not.
 * @param {HTMLElement} live the element that tells `live:picture` and is told `live:look`
 */
export function mount(live) {
  const stop = new AbortController();
  /** @type {Map<string, Uint8Array<ArrayBuffer> | null>} */
  const newest = new Map();
  /** @type {Set<Element>} */
  const seen = new Set();
  let told = "";

  const canvases = () =>
    /** @type {NodeListOf<HTMLCanvasElement>} */ (
      document.querySelectorAll("canvas[data-picture]")
    );

  const look = () => {
    /** @type {Record<string, string[]>} */
    const sizes = {};
    for (const canvas of canvases()) {
      if (canvas.closest("[hidden]")) continue;
      const size = seen.has(canvas) ? (canvas.dataset.size ?? "small") : "rest";
      sizes[size] = [...(sizes[size] ?? []), canvas.dataset.picture ?? ""];
    }
    const detail = JSON.stringify({ look: sizes });
    if (detail === told) return;
    told = detail;
    live.dispatchEvent(new CustomEvent("live:look", { detail }));
  };

  const observer = new IntersectionObserver((entries) => {
    for (const entry of entries) {
      if (entry.isIntersecting) seen.add(entry.target);
      else seen.delete(entry.target);
    }
    look();
  });
  const observe = () => {
    for (const canvas of canvases()) observer.observe(canvas);
    for (const canvas of seen) if (!canvas.isConnected) seen.delete(canvas);
    look();
  };

  /** @param {string} name @param {Uint8Array<ArrayBuffer>} data */
  const draw = async (name, data) => {
    const canvas = /** @type {HTMLCanvasElement | null} */ (
      document.querySelector(`canvas[data-picture="${CSS.escape(name)}"]`)
    );
    if (!canvas) return;
    const picture = await createImageBitmap(new Blob([data], { type: "image/jpeg" }));
    if (canvas.width !== picture.width || canvas.height !== picture.height) {
      canvas.width = picture.width;
      canvas.height = picture.height;
    }
    canvas.getContext("2d")?.drawImage(picture, 0, 0);
    canvas.dataset.drawn = String(Number(canvas.dataset.drawn ?? 0) + 1);
    picture.close();
  };

  live.addEventListener(
    "live:picture",
    async (event) => {
      const { name, data } = /** @type {CustomEvent} */ (event).detail;
      // One at a time each; of those that come meanwhile the newest is drawn after it.
      const busy = newest.has(name);
      newest.set(name, data);
      if (busy) return;
      try {
        for (let next = data; next; next = newest.get(name)) {
          newest.set(name, null);
          await draw(name, next);
        }
      } finally {
        newest.delete(name);
      }
    },
    { signal: stop.signal },
  );
  document.addEventListener("parts:swapped", observe, { signal: stop.signal });
  observe();
  return {
    destroy() {
      stop.abort();
      observer.disconnect();
    },
  };
}
