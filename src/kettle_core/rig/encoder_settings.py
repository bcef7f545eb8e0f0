"""How pictures are encoded: one value for tracks, programs, trials and exports."""

from dataclasses import dataclass
from fractions import Fraction
from typing import Literal

from kettle_core.rig.devices import Mode
from kettle_core.rig.format import (
    CEILING,
    CONSTANT,
    LEAST_KBPS,
    ProgramFormat,
    Rate,
    Speed,
    TrackFormat,
)

# So far a constant bitrate may be off at any moment: 2 % of any 10 s.
CONSTANT_BUFFER_S = 0.2


@dataclass(frozen=True)
class ConstantQuality:
    """As many bits as a quality takes; `crf` 1 (best) to 51, `ceiling_kbps` 0 for none.

    With a ceiling, any t seconds take at most ceiling × (t + 1 s).
    """

    crf: int
    ceiling_kbps: int = 0

    @property
    def kept(self) -> tuple[int, int] | None:
        """What is kept at every moment: a bitrate in kbit/s, and a buffer for it in kbit."""
        return (self.ceiling_kbps, self.ceiling_kbps) if self.ceiling_kbps else None


@dataclass(frozen=True)
class ConstantBitrate:
    """The same number of bits each second, padded where fewer are needed."""

    kbps: int

    @property
    def kept(self) -> tuple[int, int]:
        """What is kept at every moment: a bitrate in kbit/s, and a buffer for it in kbit."""
        return self.kbps, max(1, round(self.kbps * CONSTANT_BUFFER_S))


@dataclass(frozen=True)
class AverageBitrate:
    """So many bits a second on the whole, fewer where `best_crf` takes fewer."""

    kbps: float
    best_crf: int

    @property
    def kept(self) -> tuple[int, int] | None:
        """Nothing is kept at every moment."""
        return None


Codec = Literal["h264", "vp9", "av1"]
RateControl = ConstantQuality | ConstantBitrate | AverageBitrate


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
    codec: Codec = "h264"


# At 1280 × 720 and 30 frames a second; more pixels get more, but less than in proportion.
USUAL_KBPS = 6000
USUAL_PIXELS_PER_S = 1280 * 720 * 30
# What one thread encodes in half of the time.
ONE_THREAD_PIXELS_PER_S = 1920 * 1080 * 30


def usual_kbps(mode: Mode) -> int:
    """A bitrate that is enough for a webcam of a size and rate.

    >>> usual_kbps(Mode(1280, 720, Fraction(30))), usual_kbps(Mode(1920, 1080, Fraction(30)))
    (6000, 11023)
    """
    size = float(mode.pixels_per_s) / USUAL_PIXELS_PER_S
    kbps: float = USUAL_KBPS * size**0.75
    return max(LEAST_KBPS, round(kbps))


def rate_control(rate: Rate, mode: Mode) -> RateControl:
    """What an encoder is told of a rate, for a picture of a size and rate."""
    kbps = rate.kbps or usual_kbps(mode)
    if rate.control == CONSTANT:
        return ConstantBitrate(kbps)
    return ConstantQuality(rate.crf, kbps if rate.control == CEILING else 0)


def track_settings(mode: Mode, track: TrackFormat, repeatable: bool = False) -> EncoderSettings:
    """How a track is encoded while it is recorded.

    Parameters
    ----------
    mode : frame size and rate of the track, as it is written
    track : the format of its kind, or its own
    repeatable : whether the same frames must become the same bits: one thread in any mode, as
        how threads share a ceiling depends on which is done first

    Notes
    -----
    One thread encodes: a second one, which takes the frame's lower half, costs a quarter more.
    Only where one would not keep up there are two.
    """
    one = repeatable or mode.pixels_per_s <= ONE_THREAD_PIXELS_PER_S
    rate = rate_control(track.rate, mode)
    return EncoderSettings(rate, track.speed, track.keyframe_s, 1 if one else 2, at_once=True)


def program_settings(program: ProgramFormat, mode: Mode) -> EncoderSettings:
    """How a program of a frame size and rate is encoded.

    Only where quality alone decides can packets be taken over from a program before: a bitrate
    is kept from the first frame to the last.
    """
    rate = rate_control(program.rate, mode)
    free = isinstance(rate, ConstantQuality) and not rate.ceiling_kbps
    return EncoderSettings(rate, program.speed, program.keyframe_s, stitchable=free)


PROGRAM = program_settings(ProgramFormat(), Mode(1920, 1080, Fraction(30)))
