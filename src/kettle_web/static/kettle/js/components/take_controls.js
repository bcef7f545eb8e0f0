import { ruleTime } from "../lib/take_lanes.js";
import { fill, say } from "../lib/told.js";

/**
 * The buttons beside the player, and the fields that say at what place something is changed.
 * @param {import("./take_player.js").TakePlayer} player
 * @param {import("./take_view.js").TakeView} view @param {{now: import("./take_data.js").Overview | null}} data
 * @param {{toggle: () => void}} stage
 * @param {() => import("./take_view.js").TakeView} lanes what the lanes show, if they are of another time
 */
export function mount(player, view, data, stage, lanes = () => view) {
  const stop = new AbortController();
  const on = { signal: stop.signal };
  /** @type {Record<string, (button: HTMLElement) => void>} */
  const does = {
    play: () => player.toggle(),
    back: () => player.step(-1),
    on: () => player.step(1),
    loop: () => player.setLoop(!player.loops),
    two: () => {
      view.mark(view.at - 1, view.at + 1);
      player.setLoop(true);
      if (!player.playing) player.toggle();
    },
    program: () => player.choose(() => player.choice.toProgram()),
    came: () => player.choose(() => player.choice.came()),
    see: (button) => player.choose(() => player.choice.see(button.dataset.name ?? "")),
    alone: (button) => player.choose(() => player.choice.alone(button.dataset.name ?? "")),
    mute: (button) => player.choose(() => player.choice.mute(button.dataset.name ?? "")),
    nearer: () => lanes().zoom(0.5),
    further: () => lanes().zoom(2),
    forget: () => view.forget(),
    place: () => stage.toggle(),
    go: (button) => view.go(Number(button.dataset.at)),
    large: () => {
      const place = document.querySelector("[data-take-player]");
      if (document.fullscreenElement) document.exitFullscreen();
      else place?.requestFullscreen?.();
    },
  };

  document.addEventListener(
    "click",
    (event) => {
      const target = /** @type {HTMLElement} */ (event.target);
      const button = /** @type {HTMLElement | null} */ (target.closest?.("[data-take]"));
      if (button) does[button.dataset.take ?? ""]?.(button);
    },
    on,
  );
  document.addEventListener(
    "change",
    (event) => {
      const field = /** @type {HTMLSelectElement} */ (event.target);
      if (field.matches("[data-take-rate]")) player.setRate(Number(field.value));
    },
    on,
  );

  const show = () => {
    for (const button of document.querySelectorAll("[data-take]")) {
      const { take, name } = /** @type {HTMLElement} */ (button).dataset;
      const { choice } = player;
      const pressed = {
        program: () => choice.seen === "program" && choice.hears(),
        see: () => choice.seen === name,
        came: () => choice.asCame,
        loop: () => player.loops,
        alone: () => choice.isAlone(name ?? ""),
        mute: () => !choice.hears(name) && !choice.hears(),
      }[take ?? ""];
      if (pressed) button.setAttribute("aria-pressed", String(pressed()));
    }
    say("[data-take-lost]", player.lost);
    say("[data-take-playing]", player.playing ? "Pause" : "Play");
  };

  const tell = () => {
    const { at, stretch } = view;
    say("[data-take-at]", ruleTime(at, 0.001));
    const words = stretch
      ? `${ruleTime(stretch[0], 0.1)} to ${ruleTime(stretch[1], 0.1)}, ${(stretch[1] - stretch[0]).toFixed(1)} s`
      : `at ${ruleTime(at, 0.1)}`;
    say("[data-take-place]", words);
    const { near } = lanes();
    const exact = near.length < 1 ? 0.001 : 0.1;
    const ends = [near.from, near.from + near.length].map((one) => ruleTime(one, exact));
    say("[data-take-near]", ends.join(" to "));
    const [from, until] = stretch ?? [at, null];
    fill("input[data-place=from]", from.toFixed(4));
    const scene = data.now?.scenes.findLast((one) => one.at_s <= at + 1e-6);
    fill("input[data-place=scene]", scene?.scene ?? "");
    const step = data.now?.steps.findLast((one) => one.at_s <= at + 1e-6);
    fill("input[data-place=step]", step?.words ?? "");
    fill("input[data-place=until]", until === null ? "" : until.toFixed(4));
  };

  const both = () => {
    show();
    tell();
  };
  for (const what of ["at", "stretch", "near"]) view.addEventListener(what, tell, on);
  document.addEventListener("player:changed", show, { ...on, capture: true });
  document.addEventListener("parts:swapped", both, on);
  both();
  return { destroy: () => stop.abort() };
}
