"""How pictures are encoded: one value for tracks, programs, trials and exports."""

from dataclasses import dataclass
from fractions import Fraction
from typing import Literal

from kettle_core.rig.devices import Mode

Speed = Literal[
    "ultrafast", "superfast", "veryfast", "faster", "fast", "medium", "slow", "slower", "veryslow"
]


@dataclass(frozen=True)
class ConstantQuality:
    """As many bits as a quality takes; `crf` 0 (lossless) to 51, `ceiling_kbps` 0 for none."""

    crf: int
    ceiling_kbps: int = 0


@dataclass(frozen=True)
class ConstantBitrate:
    """The same number of bits each second, padded where fewer are needed."""

    kbps: int


RateControl = ConstantQuality | ConstantBitrate


@dataclass(frozen=True)
class EncoderSettings:
    """How pictures are encoded.

    A keyframe comes with the first frame of every `keyframe_s` of time, and nothing after it
    hangs on what was before (closed GOPs). `at_once`: a frame is out before the next one is in,
    without look-ahead. `threads` 0: as many as the machine has cores. `stitchable`: packets of
    one encoder can follow those of another with the same settings.
    """

    rate: RateControl
    speed: Speed
    keyframe_s: Fraction = Fraction(2)
    threads: int = 0
    at_once: bool = False
    stitchable: bool = False
    codec: Literal["h264"] = "h264"


# A screen is mostly still and must stay sharp; a webcam's noise would eat any bitrate.
SCREEN_CRF, CAMERA_CRF = 18, 20
# At 1280 × 720 and 30 frames a second; more pixels get more, but less than in proportion.
CAMERA_KBPS = 6000
CAMERA_PIXELS_PER_S = 1280 * 720 * 30
# What one thread encodes in half of the time.
ONE_THREAD_PIXELS_PER_S = 1920 * 1080 * 30

PROGRAM = EncoderSettings(ConstantQuality(19), "veryfast", stitchable=True)


def track_settings(mode: Mode, is_screen: bool, repeatable: bool = False) -> EncoderSettings:
    """How a track is encoded while it is recorded.

    Parameters
    ----------
    mode : frame size and rate of the track
    is_screen : whether it is a screen's, which is sharp and mostly still
    repeatable : whether the same frames must become the same bits: one thread in any mode, as
        how threads share a ceiling depends on which is done first

    Notes
    -----
    One thread encodes: a second one, which takes the frame's lower half, costs a quarter more.
    Only where one would not keep up there are two.
    """
    one = repeatable or mode.pixels_per_s <= ONE_THREAD_PIXELS_PER_S
    threads = 1 if one else 2
    if is_screen:
        sharp = ConstantQuality(SCREEN_CRF)
        return EncoderSettings(sharp, "superfast", Fraction(1), threads, at_once=True)
    size = float(mode.width * mode.height * mode.fps) / CAMERA_PIXELS_PER_S
    noisy = ConstantQuality(CAMERA_CRF, round(CAMERA_KBPS * size**0.75))
    return EncoderSettings(noisy, "ultrafast", Fraction(1), threads, at_once=True)
