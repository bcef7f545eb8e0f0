"""Where sound crosses over from a piece to the next: at the quietest place near to the cut."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import TakeError
from kettle_core.rig.devices import VOICE_KINDS
from kettle_core.timing.ticks import NS_PER_S
from kettle_core.timing.time_map import Piece, Source
from kettle_media.survey.sounds import rms_of
from kettle_media.survey.survey import STEP_NS, read_level, read_survey
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TakeInfo
from kettle_media.take.sound_track import MASTER_HZ

MOST_NS, TRIED_NS = 40_000_000, 5_000_000
# A short piece keeps most of its own sound.
MOST_SHARE = 0.25
# What is no quieter than that is no reason to move away from the pictures.
WORTH = 0.8


@dataclass(frozen=True)
class Voice:
    """How loud the voices of a take are: RMS of each `STEP_NS` of record time, the loudest's."""

    rms: NDArray[np.float64]

    def around(self, at_ns: float) -> float:
        """The loudest within a step of a record time."""
        number = int(at_ns // STEP_NS)
        return float(self.rms[max(0, number - 1) : number + 2].max(initial=0.0))


def voice_of(folder: TakeFolder, info: TakeInfo) -> Voice | None:
    """The voices of a take that was looked at; None before that, or without one."""
    survey = read_survey(folder, info)
    names = [track.name for track in info.tracks if track.kind in VOICE_KINDS]
    found = [row for name in names if survey and (row := survey.track(name)) and row.levels]
    try:
        levels = [rms_of(read_level(folder, row)) for row in found]
    except (TakeError, OSError):
        return None
    return Voice(np.max(levels, axis=0)) if levels else None


def quiet_joins(pieces: Sequence[Piece], voices: Mapping[Source, Voice]) -> dict[int, int]:
    """By how many samples sound crosses over later than the pictures, after pieces by number.

    Parameters
    ----------
    pieces : of a map from program time to record time
    voices : of the takes in it that were looked at
    """
    found = {}
    for number, (one, other) in enumerate(pairwise(pieces)):
        voice, following = voices.get(one.source), voices.get(other.source)
        if voice is None or following is None:
            continue
        shortest = min(one.end_ns - one.start_ns, other.end_ns - other.start_ns)
        most = min(MOST_NS, int(shortest * MOST_SHARE))
        tried = sorted(range(-(most // TRIED_NS), most // TRIED_NS + 1), key=abs)
        loud = [
            voice.around(float(one.until_ns + by * TRIED_NS * one.speed))
            + following.around(float(other.from_ns + by * TRIED_NS * other.speed))
            for by in tried
        ]
        best = int(np.argmin(loud))
        if tried[best] and loud[best] < WORTH * loud[0]:
            found[number] = round(tried[best] * TRIED_NS * MASTER_HZ / NS_PER_S)
    return found
