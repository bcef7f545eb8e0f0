/**
 * Draws live pictures on the canvases that carry their name in data-picture.
 * @param {HTMLElement} live the element that tells `live:picture`
 * @param {(name: string) => void} [onPicture]
 */
export function mount(live, onPicture) {
  const stop = new AbortController();
  /** @type {Map<string, HTMLCanvasElement>} */
  const canvases = new Map();
  for (const canvas of document.querySelectorAll("canvas[data-picture]")) {
    const element = /** @type {HTMLCanvasElement} */ (canvas);
    canvases.set(element.dataset.picture ?? "", element);
  }
  /** @type {Set<string>} */
  const busy = new Set();
  live.addEventListener(
    "live:picture",
    async (event) => {
      const { name, jpeg } = /** @type {CustomEvent} */ (event).detail;
      const canvas = canvases.get(name);
      if (!canvas || busy.has(name)) return;
      busy.add(name);
      try {
        const picture = await createImageBitmap(new Blob([jpeg], { type: "image/jpeg" }));
        if (canvas.width !== picture.width || canvas.height !== picture.height) {
          canvas.width = picture.width;
          canvas.height = picture.height;
        }
        canvas.getContext("2d")?.drawImage(picture, 0, 0);
        canvas.dataset.drawn = String(Number(canvas.dataset.drawn ?? 0) + 1);
        picture.close();
        onPicture?.(name);
      } finally {
        busy.delete(name);
      }
    },
    { signal: stop.signal },
  );
  return { destroy: () => stop.abort() };
}
