"""What a file was meant to show and to sound like, at the places where it is looked at."""

import numpy as np
from numpy.typing import NDArray

from kettle_core.picture.picture import Plane
from kettle_core.program.plan import Plan
from kettle_core.sound.levels import Sound
from kettle_media.take.sound_track import MASTER_HZ

# As shares of the whole.
PLACES = (0.1, 0.5, 0.9)
HEARD_S = 1.0
# A picture is nearer to what was meant than to what comes so many frames before or after.
FRAMES_AWAY = 3


def places_seen(plan: Plan) -> list[list[int]]:
    """A frame at each place, with those before and after that it must not be."""
    ways, last = (0, -FRAMES_AWAY, FRAMES_AWAY), plan.frames - 1
    middles = [min(last, int(share * plan.frames)) for share in PLACES]
    return [[min(max(0, middle + by), last) for by in ways] for middle in middles]


def places_heard(plan: Plan) -> list[tuple[int, int]]:
    """The first sample at each place, and how many are listened to."""
    count = min(round(HEARD_S * MASTER_HZ), plan.samples)
    return [(min(plan.samples - count, int(share * plan.samples)), count) for share in PLACES]


class Sounds:
    """The sound at each place, put together of what comes."""

    def __init__(self, plan: Plan) -> None:
        self.places = places_heard(plan)
        self.kept: list[Sound] = [np.zeros((2, count), np.float32) for _, count in self.places]
        self._there: list[NDArray[np.bool_]] = [np.zeros(count, bool) for _, count in self.places]

    def take(self, at: int, sound: Sound) -> None:
        """Some sound (2, N) that begins at a sample."""
        for (first, count), kept, there in zip(self.places, self.kept, self._there, strict=True):
            begin, end = max(first, at), min(first + count, at + sound.shape[1])
            if begin < end:
                kept[:, begin - first : end - first] = sound[:, begin - at : end - at]
                there[begin - first : end - first] = True

    def whole(self, number: int) -> Sound | None:
        """All of the sound at a place; None where some has not come."""
        return self.kept[number] if self._there[number].all() else None


class Meant:
    """Frames as they were drawn, and the mix as it was encoded; empty where nothing came."""

    def __init__(self, plan: Plan) -> None:
        self._numbers = {number for around in places_seen(plan) for number in around}
        self.frames: dict[int, Plane] = {}
        self.sounds = Sounds(plan)

    def look(self, number: int, buffer: Plane) -> None:
        """A frame that was drawn."""
        if number in self._numbers:
            self.frames[number] = buffer.copy()
