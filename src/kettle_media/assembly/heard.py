"""How a mix is heard from a file: its loudness and true peak once it was encoded and decoded."""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from itertools import chain
from pathlib import Path
from typing import Any

import av
import numpy as np

from kettle_core.program.plan import Plan
from kettle_core.sound.levels import Sound
from kettle_core.sound.loudness import LoudnessMeter
from kettle_core.sound.tone import CEILING_DBTP
from kettle_core.sound.true_peak import PeakMeter
from kettle_media.program.program_sound import OPTIONS
from kettle_media.take.sound_track import MASTER_HZ
from kettle_media.told import Told

CONTAINERS = {"aac": "ipod", "libopus": "webm", "libmp3lame": "mp3"}
# Sound is looked at in blocks of so many samples.
BLOCK_SAMPLES = MASTER_HZ
SILENT_LUFS = -70.0
MOST_GAIN_DB = 30.0
# As near as nobody hears; so much lower than it peaked is tried next, and more each time.
NEAR_LU, SPARE_DB = 0.1, 0.1
MOST_MEASURES = 6


@dataclass(frozen=True)
class Heard:
    """Integrated loudness in LUFS and true peak in dBTP (ITU-R BS.1770-5)."""

    lufs: float
    peak_dbtp: float


def measured(blocks: Iterable[Sound]) -> Heard:
    """How loud (2, N) blocks at 48 kHz are together, and how high they peak."""
    meter, peaks = LoudnessMeter(2, MASTER_HZ), PeakMeter(2)
    for block in blocks:
        meter.take(block)
        peaks.take(block)
    return Heard(meter.read().integrated_lufs, peaks.read().true_peak_dbtp)


def coded(blocks: Iterable[Sound], codec: str, kbps: int, path: Path) -> Iterator[Sound]:
    """Blocks as they are heard from a file of a codec, which is written to `path` and removed.

    Raises TakeError if it can't be written.
    """
    try:
        with Told(path, True, "{} cannot be written"):
            yield from _through(str(path), blocks, codec, kbps)
    finally:
        path.unlink(missing_ok=True)


def _through(file: str, blocks: Iterable[Sound], codec: str, kbps: int) -> Iterator[Sound]:
    samples = 0
    with av.open(file, "w", format=CONTAINERS[codec]) as container:
        options = OPTIONS.get(codec, {})
        stream: Any = container.add_stream(codec, rate=MASTER_HZ, layout="stereo", options=options)
        stream.bit_rate = kbps * 1000
        for block in blocks:
            frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(block), "fltp", "stereo")
            frame.sample_rate, frame.pts = MASTER_HZ, samples
            frame.time_base = Fraction(1, MASTER_HZ)
            container.mux(stream.encode(frame))
            samples += block.shape[1]
        container.mux(stream.encode(None))
    for at, block in decoded(file):
        yield block[:, max(0, -at) : max(0, samples - at)]


def decoded(file: str) -> Iterator[tuple[int, Sound]]:
    """The sound of a file at 48 kHz, block by block, each with its first sample.

    It begins where players begin: an encoder's delay comes before 0. Raises what PyAV does.
    """
    to_plain = av.AudioResampler("fltp", "stereo", MASTER_HZ, BLOCK_SAMPLES)
    at: int | None = None
    with av.open(file) as container:
        for frame in chain(container.decode(audio=0), [None]):
            if at is None:
                # An encoder's delay is told as the file's beginning, which players take for 0.
                begins_s = (container.start_time or 0) / 1e6
                at = round((float(frame.time or 0.0) - begins_s) * MASTER_HZ) if frame else 0
            for plain in to_plain.resample(frame):
                block: Sound = np.asarray(plain.to_ndarray(), np.float32)
                yield at, block
                at += block.shape[1]


def leveled(
    plan: Plan, wanted_lufs: float | None, measure: Callable[[Plan], Heard]
) -> tuple[Plan, Heard, Heard]:
    """A plan that is as loud as is wanted where it is heard, and peaks no higher than may be.

    Parameters
    ----------
    plan : its gain and ceiling are set anew
    wanted_lufs : None leaves the loudness alone
    measure : how a plan is heard

    Returns
    -------
    The plan, how it was heard before, how it is heard now.
    """
    before = heard = measure(plan)
    tried = [(plan, heard)]
    while len(tried) < MOST_MEASURES:
        following = _nearer(plan, heard, wanted_lufs, SPARE_DB * len(tried))
        if following == plan:
            break
        plan, heard = following, measure(following)
        tried.append((plan, heard))
    # An encoder that has few bits jumps: the nearest of all is not always the last one.
    best, now = min(tried, key=lambda one: _missed(one[1], wanted_lufs))
    return best, before, now


def _nearer(plan: Plan, heard: Heard, wanted_lufs: float | None, spare_db: float) -> Plan:
    """A plan that should be nearer to what is wanted than one that is heard like this."""
    over_db, off_lu = _missed(heard, wanted_lufs)
    ceiling_dbtp = plan.ceiling_dbtp - (over_db + spare_db if over_db else 0.0)
    gain_db = plan.gain_db
    if wanted_lufs is not None and off_lu >= NEAR_LU:
        # What the limiter took away is given once more.
        gain_db = min(gain_db + wanted_lufs - heard.lufs, MOST_GAIN_DB)
    return replace(plan, gain_db=gain_db, ceiling_dbtp=ceiling_dbtp)


def _missed(heard: Heard, wanted_lufs: float | None) -> tuple[float, float]:
    """By how much it peaks too high, in dB, and how far off its loudness is, in LU."""
    is_left_alone = wanted_lufs is None or heard.lufs <= SILENT_LUFS
    off_lu = 0.0 if is_left_alone else abs(heard.lufs - (wanted_lufs or 0.0))
    return max(0.0, heard.peak_dbtp - CEILING_DBTP), off_lu
