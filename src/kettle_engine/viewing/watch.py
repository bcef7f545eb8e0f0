"""How every input is, in one word and in words for people: the state column of the patch sheet."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kettle_core.picture.picture import Plane, picture_from_i420
from kettle_core.rig.rig import Input
from kettle_engine.devices.report import LIVE, SourceReport

# Limited range begins at 16; a lens cap gives a few steps more.
DARK_BELOW = 24.0
FROZEN_AFTER_S = 2.0
CHANGING_FOR_S = 2.0
LOSING_FOR_S = 3.0
SAMPLED_EVERY_PX = 8
HEARS = {"microphone": "hears you", "system-audio": "plays", "sound-file": "plays"}
FAULT_WORDS = {
    "unplugged": "not plugged in",
    "busy": "busy in another program",
    "opening": "opening",
}


@dataclass(frozen=True)
class InputState:
    """`state` is live, look or fault (for colour and shape), `words` say it."""

    state: str
    words: str


class PictureWatch:
    """Compares what an input shows now with what it showed before."""

    def __init__(self, item: Input) -> None:
        self._camera = item.kind == "webcam"
        self._sample: NDArray[np.uint8] | None = None
        self._changed_s = 0.0
        self._number = -1
        self._came_s = 0.0
        self._dark = False
        self._lost_before = 0
        self._lost: list[tuple[float, int]] = []
        self._jumped_before = 0
        self._jumped_s = -10.0

    def take(self, source: SourceReport, now_s: float) -> None:
        """Hear how the device is."""
        if source.lost > self._lost_before:
            self._lost.append((now_s, source.lost - self._lost_before))
        self._lost_before = source.lost
        if source.jumped > self._jumped_before:
            self._jumped_before, self._jumped_s = source.jumped, now_s

    def is_new(self, number: int) -> bool:
        """Whether a picture with the device's number has not been looked at."""
        return number != self._number

    def look(self, buffer: Plane, number: int, now_s: float) -> None:
        """Take a look at the newest picture, an I420 buffer, with the device's number."""
        self._number = number
        luma = picture_from_i420(buffer).y
        sample = luma[::SAMPLED_EVERY_PX, ::SAMPLED_EVERY_PX].copy()
        if self._sample is None or not np.array_equal(sample, self._sample):
            self._changed_s = now_s
        self._sample = sample
        self._came_s = now_s
        self._dark = float(sample.mean()) < DARK_BELOW

    def state(self, now_s: float) -> InputState:
        """The state now."""
        self._lost = [entry for entry in self._lost if now_s - entry[0] < LOSING_FOR_S]
        if self._sample is None:
            return InputState("look", "waiting for a picture")
        if self._lost:
            count = sum(n for _, n in self._lost)
            return InputState("look", f"loses frames: {count} in {LOSING_FOR_S:.0f} s")
        if now_s - self._jumped_s < LOSING_FOR_S:
            return InputState("look", "its clock jumped; set right")
        if self._dark:
            return InputState("look", "dark: no light, or covered")
        still_s = now_s - self._changed_s
        if self._camera and still_s > FROZEN_AFTER_S and now_s - self._came_s < 1.5:
            return InputState("look", "frozen")
        if self._camera:
            return InputState("live", "moving")
        return InputState("live", "changing" if still_s < CHANGING_FOR_S else "still")


def source_state(source: SourceReport) -> InputState | None:
    """What a device that is not live says; None where it is."""
    if source.state == LIVE:
        return None
    if source.state == "opening":
        return InputState("look", FAULT_WORDS["opening"])
    return InputState("fault", FAULT_WORDS.get(source.state, source.sentence))
