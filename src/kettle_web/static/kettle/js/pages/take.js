import { mount as mountKeys } from "../components/keys.js";
import { mount as mountPlayer } from "../components/player.js";
import { mount as mountProgress } from "../components/progress.js";

mountKeys();
const player = document.querySelector("[data-player]");
if (player) mountPlayer(/** @type {HTMLVideoElement} */ (player));
const progress = document.querySelector("[data-progress]");
if (progress) mountProgress(/** @type {HTMLElement} */ (progress));
