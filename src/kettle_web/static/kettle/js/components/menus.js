/** details.menu: closed by Escape, by a press elsewhere, and once something in it was chosen. */
export function mount() {
  const stop = new AbortController();
  const on = { signal: stop.signal };

  /** @param {Node | null} but what is not closed is the menu around this */
  const close = (but) => {
    /** @type {NodeListOf<HTMLDetailsElement>} */
    const open = document.querySelectorAll("details.menu[open]");
    for (const menu of open) if (!menu.contains(but)) menu.open = false;
    return open.length > 0;
  };

  document.addEventListener(
    "pointerdown",
    (event) => close(/** @type {Node} */ (event.target)),
    on,
  );
  document.addEventListener("submit", () => close(null), on);
  document.addEventListener(
    "keydown",
    (event) => {
      if (event.key !== "Escape") return;
      const focused = document.activeElement?.closest("details.menu");
      if (close(null)) focused?.querySelector("summary")?.focus();
    },
    on,
  );
  return { destroy: () => stop.abort() };
}
