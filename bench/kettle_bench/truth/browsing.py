"""What Chromium's own player shows and plays of a file."""

from base64 import b64decode
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from kettle_bench.truth.coded import BITS, FPS, HZ
from kettle_bench.truth.judges import clicks_in
from kettle_core.sound.tone import CEILING_DBTP

PLACE = "http://judge.invalid/"
CLICK_S, STEP = 0.001, 7
# Runs in an empty page: the number that is shown at each time, how long the file is.
SHOWN = """async ([times, bits]) => {
  const file = await (await fetch("file")).blob();
  const video = document.createElement("video");
  video.muted = true;
  video.src = URL.createObjectURL(file);
  await new Promise((done, fail) => { video.onloadeddata = done; video.onerror = fail; });
  const canvas = new OffscreenCanvas(bits, 1);
  const pen = canvas.getContext("2d", { willReadFrequently: true });
  const shown = [];
  for (const at of times) {
    // Sought is not yet shown: a busy machine still has the frame before.
    const there = new Promise((done) => { video.requestVideoFrameCallback(done); });
    video.currentTime = at;
    await there;
    pen.drawImage(video, 0, 0, bits, 1);
    const pixels = pen.getImageData(0, 0, bits, 1).data;
    let number = 0;
    for (let bit = 0; bit < bits; bit += 1) if (pixels[4 * bit] > 127) number += 2 ** bit;
    shown.push(number);
  }
  return { shown, length_s: video.duration };
}"""
# Runs in an empty page: the sound, as base64 of its samples.
PLAYED = """async (rate) => {
  const file = await (await fetch("file")).arrayBuffer();
  const sound = await new OfflineAudioContext(1, 1, rate).decodeAudioData(file);
  const bytes = new Uint8Array(sound.getChannelData(0).buffer);
  let text = "";
  for (let n = 0; n < bytes.length; n += 32768)
    text += String.fromCharCode(...bytes.subarray(n, n + 32768));
  return btoa(text);
}"""


def shown_in_chromium(
    browser: Any, path: Path, times_s: list[float]
) -> tuple[list[int], float, list[float]]:
    """Numbers shown at some times, how long the file is in s, and when clicks are heard."""
    found = _in_empty_page(browser, path, SHOWN, [times_s, BITS])
    sound = np.frombuffer(b64decode(_in_empty_page(browser, path, PLAYED, HZ)), np.float32)
    return found["shown"], found["length_s"], clicks_in(sound)


# Runs in an empty page: its length, whether each second is found, its sound's length and peak.
PLAYS = """async ([seconds, rate]) => {
  const file = await (await fetch("file")).blob();
  const video = document.createElement("video");
  video.muted = true;
  video.src = URL.createObjectURL(file);
  await new Promise((done, fail) => { video.onloadeddata = done; video.onerror = fail; });
  const missed = [];
  for (let at = 0; at < seconds; at += 1) {
    const there = new Promise((done) => { video.onseeked = done; });
    video.currentTime = at + 0.5;
    await there;
    if (Math.abs(video.currentTime - at - 0.5) > 0.05) missed.push(at);
  }
  const context = new OfflineAudioContext(2, 1, rate);
  const sound = await context.decodeAudioData(await file.arrayBuffer());
  let peak = 0;
  for (let n = 0; n < sound.numberOfChannels; n += 1)
    for (const value of sound.getChannelData(n)) peak = Math.max(peak, Math.abs(value));
  return { length_s: video.duration, missed, sound_s: sound.duration, peak };
}"""


def plays_in_chromium(browser: Any, path: Path, wanted_s: float, near_s: float) -> list[str]:
    """What Chromium finds wrong of a file with sound, in words."""
    found = _in_empty_page(browser, path, PLAYS, [int(wanted_s), HZ])
    wrong = [
        f"{found[name]:.3f} s of {what} in Chromium instead of {wanted_s:.3f}"
        for name, what in (("length_s", "it"), ("sound_s", "sound"))
        if abs(found[name] - wanted_s) > near_s
    ]
    wrong += [f"second {at} is not found" for at in found["missed"]]
    if found["peak"] > 10 ** (CEILING_DBTP / 20):
        wrong.append(f"a sample of {found['peak']:.3f} in Chromium")
    return wrong


def _in_empty_page(browser: Any, path: Path, script: str, values: Any) -> Any:
    """What a script gives in a page that can fetch "file"."""
    page = browser.new_page()
    try:
        page.route(f"{PLACE}**", lambda route: route.fulfill(body="<title>judge</title>"))
        page.route(f"{PLACE}file", lambda route: route.fulfill(path=str(path)))
        page.goto(PLACE)
        return page.evaluate(script, values)
    finally:
        page.close()


def chromium_faults(
    browser: Any, path: Path, numbers: Sequence[int], clicks_s: Sequence[float]
) -> list[str]:
    """What a file shows and plays otherwise than it is to be, in words.

    Parameters
    ----------
    numbers : of each frame, at the coded take's own rate; every seventh is looked at
    clicks_s : when clicks are to be heard
    """
    # Not the first one, which is shown already.
    places = range(STEP, len(numbers), STEP)
    times_s = [float((place + 0.5) / FPS) for place in places]
    shown, length_s, found = shown_in_chromium(browser, path, times_s)
    wrong = [
        f"frame {place} shows {there} instead of {numbers[place]}"
        for place, there in zip(places, shown, strict=True)
        if there != numbers[place]
    ]
    if abs(length_s - len(numbers) / FPS) > float(1 / FPS):
        wrong.append(f"{length_s} s instead of {float(len(numbers) / FPS):.3f}")
    if len(found) != len(clicks_s) or any(
        abs(a - b) > CLICK_S for a, b in zip(found, clicks_s, strict=False)
    ):
        wrong.append(f"clicks at {found} instead of {list(clicks_s)}")
    return wrong
