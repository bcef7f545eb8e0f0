/**
 * Plays the program or one track alone in the page's one player, from the same place.
 * @param {HTMLVideoElement} player
 */
export function mount(player) {
  const stop = new AbortController();
  const buttons = /** @type {NodeListOf<HTMLButtonElement>} */ (
    document.querySelectorAll("button[data-play]")
  );
  for (const button of buttons) {
    button.addEventListener(
      "click",
      () => {
        const at = player.currentTime;
        player.src = button.dataset.play ?? "";
        player.currentTime = at;
        player.play();
        for (const other of buttons) {
          other.setAttribute("aria-pressed", String(other === button));
          const row = other.closest("tr");
          if (row) row.dataset.state = other === button ? "playing" : "";
        }
      },
      { signal: stop.signal },
    );
  }
  return { destroy: () => stop.abort() };
}
