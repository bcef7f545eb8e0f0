const BESIDE_PX = 6;
const EDGE_PX = 8;

/**
 * Lays what a button opens (popovertarget) below it, or above where there is no room, within the
 * window; closes it once something in it was chosen. The rest is the browser's own.
 */
export function mount() {
  const stop = new AbortController();

  const lay = (/** @type {HTMLElement} */ card) => {
    const button = document.querySelector(`[popovertarget="${CSS.escape(card.id)}"]`);
    if (!button) return;
    const at = button.getBoundingClientRect();
    const { width, height } = card.getBoundingClientRect();
    const below = at.bottom + BESIDE_PX;
    const fits = below + height <= innerHeight - EDGE_PX;
    const top = fits ? below : at.top - BESIDE_PX - height;
    card.style.left = `${Math.max(EDGE_PX, Math.min(at.left, innerWidth - EDGE_PX - width))}px`;
    card.style.top = `${Math.max(EDGE_PX, Math.min(top, innerHeight - EDGE_PX - height))}px`;
  };

  document.addEventListener(
    "beforetoggle",
    (event) => {
      const card = /** @type {HTMLElement} */ (event.target);
      // It has a size from then on, and is not drawn yet.
      if (card.matches(".menu-card") && event.newState === "open")
        requestAnimationFrame(() => lay(card));
    },
    { signal: stop.signal, capture: true },
  );
  document.addEventListener(
    "submit",
    (event) => {
      const form = /** @type {HTMLElement} */ (event.target);
      /** @type {HTMLElement | null} */ (form.closest(".menu-card:popover-open"))?.hidePopover();
    },
    { signal: stop.signal },
  );
  return { destroy: () => stop.abort() };
}
