"""A sound nearer than its survey has it, to single samples: read from the track itself."""

from contextlib import closing

import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import TakeError
from kettle_core.sound.envelope import Envelope, envelope_of
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.survey.survey import Knot, SurveyedTrack
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TrackInfo
from kettle_media.take.sound_track import RawTrack

MOST_STEPS, LONGEST_STEP_NS = 4096, 5_000_000


def read_fine(
    folder: TakeFolder,
    track: TrackInfo,
    found: SurveyedTrack,
    from_ns: int,
    step_ns: float,
    count: int,
) -> Envelope:
    """Least, greatest and RMS sample of `count` steps from a record time on.

    Raises
    ------
    TakeError
        If it is no sound that was surveyed, more is asked for than is given at once, or the
        track can't be read.
    """
    if track.is_picture or not found.knots:
        raise TakeError(f"{track.title} is no sound that was looked at.")
    if not (0 < step_ns <= LONGEST_STEP_NS and 0 < count <= MOST_STEPS):
        raise TakeError(f"A part of a waveform has at most {MOST_STEPS} steps of 5 ms.")
    times_ns = np.asarray(from_ns + np.arange(count + 1) * step_ns, np.float64)
    rate_hz = track.mode.sample_rate_hz
    places = file_ns(found.knots, times_ns) * rate_hz / NS_PER_S
    edges = np.maximum.accumulate(np.floor(places + 0.5).astype(np.int64))
    with closing(RawTrack(folder.track_path(track), track.mode.channels)) as raw:
        # A step shorter than a sample is as the sample that it lies in.
        ends = np.maximum(edges[1:], edges[:-1] + 1)
        sound = raw.read(int(edges[0]), int(ends[-1] - edges[0]))
    if (np.diff(edges) > 0).all():
        return envelope_of(sound, edges - edges[0])
    parts = [
        envelope_of(sound, np.array([a, b]) - edges[0]) for a, b in zip(edges, ends, strict=False)
    ]
    return np.concatenate(parts)


def file_ns(knots: tuple[Knot, ...], times_ns: NDArray[np.float64]) -> NDArray[np.float64]:
    """Times of the track's playable file at record times."""
    rows = np.array([(k.record_ns, k.file_ns, k.rate) for k in knots])
    at = np.maximum(np.searchsorted(rows[:, 0], times_ns, "right") - 1, 0)
    record_ns, file_ns, rate = rows[at].T
    return np.asarray(file_ns + (times_ns - record_ns) * rate)
