/**
 * Plays the same seconds before and after the chain, switched without a gap; blind if wanted:
 * then the buttons say neither which is which, until it is asked.
 * @param {HTMLElement} root holds two audio elements and the buttons
 */
export function mount(root) {
  const stop = new AbortController();
  const sides = /** @type {HTMLAudioElement[]} */ ([...root.querySelectorAll("audio")]);
  const one = (/** @type {string} */ name) =>
    /** @type {HTMLElement} */ (root.querySelector(`[data-ear-${name}]`));
  const buttons = /** @type {HTMLElement[]} */ ([...root.querySelectorAll("[data-ear-side]")]);
  const blind = /** @type {HTMLInputElement} */ (one("blind"));
  let order = [0, 1];
  let heard = 0;
  let hidden = false;

  const names = () => (hidden ? ["One", "Other"] : order.map((n) => ["Before", "After"][n]));

  const draw = () => {
    names().forEach((name, place) => {
      const word = /** @type {HTMLElement} */ (buttons[place].querySelector("[data-ear-name]"));
      word.textContent = name;
      buttons[place].setAttribute("aria-pressed", String(place === heard));
    });
    const playing = sides.some((side) => !side.paused);
    one("play-word").textContent = playing ? "Stop" : "Play";
    one("tell").hidden = !hidden;
    root.dataset.playing = playing ? sides[order[heard]].dataset.side : "";
  };

  const choose = (/** @type {number} */ place) => {
    const from = sides[order[heard]];
    const to = sides[order[place]];
    heard = place;
    if (!from.paused && from !== to) {
      to.currentTime = from.currentTime;
      void to.play();
      from.pause();
    } else if (from !== to) {
      to.currentTime = from.currentTime;
    }
    draw();
  };

  const play = () => {
    const side = sides[order[heard]];
    if (side.paused) void side.play();
    else side.pause();
  };

  const hide = () => {
    hidden = blind.checked;
    if (hidden && Math.random() < 0.5) order = [order[1], order[0]];
    if (!hidden) order = [0, 1];
    for (const side of sides) side.pause();
    heard = 0;
    one("says").textContent = hidden ? "Which one would you keep?" : "Equally loud.";
    draw();
  };

  const tell = () => {
    const [first, second] = order.map((n) => ["before", "after"][n]);
    hidden = false;
    blind.checked = false;
    one("says").textContent = `“One” was ${first}, “Other” was ${second}.`;
    draw();
  };

  one("play").addEventListener("click", play, { signal: stop.signal });
  blind.addEventListener("change", hide, { signal: stop.signal });
  one("tell").addEventListener("click", tell, { signal: stop.signal });
  buttons.forEach((button, place) => {
    button.addEventListener("click", () => choose(place), { signal: stop.signal });
  });
  for (const side of sides) {
    for (const what of ["play", "pause", "ended"]) {
      side.addEventListener(what, draw, { signal: stop.signal });
    }
  }
  draw();
  return {
    destroy() {
      stop.abort();
      for (const side of sides) side.pause();
    },
  };
}
