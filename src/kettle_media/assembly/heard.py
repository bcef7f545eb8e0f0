"""How a mix is heard from a file: its loudness and true peak once it was encoded and decoded."""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from itertools import chain
from tempfile import NamedTemporaryFile
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

CONTAINERS = {"aac": "ipod", "libopus": "webm", "libmp3lame": "mp3"}
# Sound is looked at in blocks of so many samples.
BLOCK_SAMPLES = MASTER_HZ
SILENT_LUFS = -70.0
MOST_GAIN_DB = 30.0
# As near as nobody hears; so much is an encoder that begins elsewhere given to do it otherwise.
NEAR_LU, SPARE_DB = 0.1, 0.1
# So often it is measured again at most.
MOST_MEASURES = 5


@dataclass(frozen=True)
class Heard:
    """Integrated loudness in LUFS and true peak in dBTP (ITU-R BS.1770-5)."""

    lufs: float
    peak_dbtp: float


def measured(blocks: Iterable[Sound], codec: str = "", kbps: int = 0) -> Heard:
    """How (2, N) blocks at 48 kHz are heard from a file of a codec; as they are without one."""
    meter, peaks = LoudnessMeter(2, MASTER_HZ), PeakMeter(2)
    with NamedTemporaryFile() as file:
        for block in _through(file.name, blocks, codec, kbps) if codec in CONTAINERS else blocks:
            meter.take(block)
            peaks.take(block)
    return Heard(meter.read().integrated_lufs, peaks.read().true_peak_dbtp)


def _through(file: str, blocks: Iterable[Sound], codec: str, kbps: int) -> Iterator[Sound]:
    """Blocks as they are decoded from a file."""
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
    for _ in range(MOST_MEASURES):
        over_db, gain_db = heard.peak_dbtp - CEILING_DBTP, plan.gain_db
        if wanted_lufs is not None and heard.lufs > SILENT_LUFS:
            # What the limiter took away is given once more.
            off = wanted_lufs - heard.lufs
            gain_db = min(gain_db + off, MOST_GAIN_DB) if abs(off) >= NEAR_LU else gain_db
        ceiling_dbtp = plan.ceiling_dbtp - (over_db + SPARE_DB if over_db > 0 else 0.0)
        if (gain_db, ceiling_dbtp) == (plan.gain_db, plan.ceiling_dbtp):
            break
        plan = replace(plan, gain_db=gain_db, ceiling_dbtp=ceiling_dbtp)
        heard = measure(plan)
    return plan, before, heard
