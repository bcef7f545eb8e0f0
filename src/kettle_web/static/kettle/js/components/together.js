/** A sound further off than this from its picture is set right, s. */
const APART_S = 0.06;

/**
 * Plays a picture with the sounds beside it as one, from their own files.
 * @param {HTMLElement} root
 */
export function mount(root) {
  const stop = new AbortController();
  const on = { signal: stop.signal };
  const picture = /** @type {HTMLVideoElement} */ (root.querySelector("video"));
  const sounds = root.querySelectorAll("audio");

  const follow = () => {
    for (const sound of sounds) {
      if (Math.abs(sound.currentTime - picture.currentTime) > APART_S) {
        sound.currentTime = picture.currentTime;
      }
      sound.volume = picture.volume;
      sound.muted = picture.muted;
      sound.playbackRate = picture.playbackRate;
      if (picture.paused || picture.ended) sound.pause();
      else if (sound.paused && !sound.ended) sound.play().catch(() => {});
    }
  };
  for (const what of ["play", "pause", "seeked", "timeupdate", "volumechange", "ratechange"]) {
    picture.addEventListener(what, follow, on);
  }
  return {
    /** Where it is, to be gone on with elsewhere. */
    place: () => ({ at: picture.currentTime, playing: !picture.paused && !picture.ended }),
    destroy() {
      stop.abort();
      for (const sound of sounds) sound.pause();
    },
  };
}
