"""How a mix is heard from a file: its loudness and true peak once it was encoded and decoded."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from fractions import Fraction
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

DECODERS = {"aac": "aac", "libopus": "opus", "libmp3lame": "mp3float"}
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
    for block in _through(blocks, codec, kbps) if codec in DECODERS else blocks:
        meter.take(block)
        peaks.take(block)
    return Heard(meter.read().integrated_lufs, peaks.read().true_peak_dbtp)


def _through(blocks: Iterable[Sound], codec: str, kbps: int) -> Iterable[Sound]:
    """Blocks as they come out of a decoder."""
    encoder: Any = av.CodecContext.create(codec, "w")
    encoder.sample_rate, encoder.bit_rate, encoder.layout = MASTER_HZ, kbps * 1000, "stereo"
    encoder.time_base, encoder.options = Fraction(1, MASTER_HZ), OPTIONS.get(codec, {})
    encoder.format = encoder.codec.audio_formats[0].name
    resampler = av.AudioResampler(encoder.format, "stereo", MASTER_HZ)
    encoder.open()
    decoder: Any = av.CodecContext.create(DECODERS[codec], "r")
    decoder.extradata = encoder.extradata
    plain = av.AudioResampler("fltp", "stereo", MASTER_HZ)
    at = 0

    def decoded(packets: Iterable[Any]) -> Iterable[Sound]:
        for packet in packets:
            for frame in decoder.decode(packet):
                # What an encoder begins with, and what fills its last packet, nobody hears.
                begin, end = max(0, -(frame.pts or 0)), max(0, at - (frame.pts or 0))
                for one in plain.resample(frame):
                    yield np.asarray(one.to_ndarray()[:, begin:end], np.float32)

    for block in blocks:
        frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(block), "fltp", "stereo")
        frame.sample_rate, frame.pts, frame.time_base = MASTER_HZ, at, Fraction(1, MASTER_HZ)
        at += block.shape[1]
        for ready in resampler.resample(frame):
            yield from decoded(encoder.encode(ready))
    yield from decoded(encoder.encode(None))
    yield from decoded([None])


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
