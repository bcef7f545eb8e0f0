"""What an export is for, and what it costs before it is made: size and time, each with a range."""

from dataclasses import dataclass
from math import exp

from kettle_core.assembly.export import MOVING, SOUND_KBPS, Export
from kettle_core.rig.devices import Mode
from kettle_core.rig.encoder_settings import usual_kbps
from kettle_core.rig.estimate import STEP

# A pixel more costs less than one that is there already.
PIXEL_POWER = 0.75
# VP9 and AV1 take this much of what H.264 does at a quality, and as many times as long: where
# they are to be quick, and otherwise.
SHARES = {"webm": 1.15, "av1": 1.0}
QUICK = ("ultrafast", "superfast", "veryfast")
QUICK_TIMES, TIMES = {"webm": 1.2, "av1": 1.3}, {"webm": 6.0, "av1": 9.0}
# Bits of a pixel of a moving picture of a lesson, most of which stands still; of a PNG.
MOVING_BITS, MOVING_RANGE = {"gif": 0.6, "webp": 0.25}, (0.2, 3.0)
STILL_BITS, STILL_RANGE = 4.0, (0.25, 3.0)
# Pixels of moving pictures and stills that are made a second.
MOVING_PIXELS_PER_S = 12e6
# What is cut is more or less busy than what is left; cores are more or less busy too.
SIZE_RANGE, TIME_RANGE = (0.6, 1.7), (0.6, 1.8)
# kbit/s of sound alone, stereo at 48 kHz; of those that lose nothing.
LOSSLESS_KBPS = {"wav": 2304, "flac": 1300}
# Sound alone is made so many times as fast as it lasts.
SOUND_SPEED = 15.0
# Measuring the loudness of a program takes so much of what composing and encoding it does, at
# 1080 lines; of what writing sound alone does that loses nothing, and that takes its encoder.
LOUDNESS_SHARE, LOUDNESS_SHARE_OF_LOSSLESS, LOUDNESS_SHARE_OF_SOUND = 0.055, 0.66, 0.27
USUAL_PIXELS = 1920 * 1080
# Decoding and composing a program take so much of making it at 1080 lines.
COMPOSING_SHARE = 0.45


@dataclass(frozen=True)
class Purpose:
    """Something that an export is for."""

    id: str
    name: str
    words: str
    order: Export


PURPOSES = (
    Purpose("archive", "To keep", "as good as it was recorded", Export(crf=15, speed="fast")),
    Purpose("course", "For a course", "sharp on any screen", Export(crf=20)),
    Purpose(
        "light", "For slow connections", "small print stays readable", Export(lines=720, crf=24)
    ),
    Purpose("message", "To send along", "no larger than 25 MB", Export(lines=720, max_mb=25)),
    Purpose("open", "For open formats", "WebM, for any browser", Export("webm", crf=22)),
    Purpose("tall", "For large screens", "2160 lines", Export(lines=2160, crf=20)),
    Purpose("upright", "For phones", "portrait, the middle of it", Export(crf=21, portrait=True)),
    Purpose(
        "inline",
        "To show in a text",
        "moves, no sound, at most 8 MB",
        Export("gif", lines=480, max_mb=8),
    ),
    Purpose("voice", "To listen to", "sound alone", Export("m4a", sound_kbps=128)),
)


@dataclass(frozen=True)
class Made:
    """A program that was made already: kbit/s of its picture, its quality, mode, and frames
    encoded a second.
    """

    kbps: float
    crf: int
    mode: Mode
    frames_per_s: float


@dataclass(frozen=True)
class Cost:
    """Something that is told before: what is likely, and between which values it will lie."""

    likely: float
    low: float
    high: float

    @classmethod
    def of(cls, likely: float, within: tuple[float, float]) -> "Cost":
        """A value with its range, given as shares of it."""
        return cls(likely, likely * within[0], likely * within[1])


def size_mb(order: Export, mode: Mode, made: Made | None, length_s: float) -> Cost | None:
    """How large a file will be, in MB; None where nothing is known.

    Parameters
    ----------
    order, mode : what is to be made, at which size and rate
    made : a program of the same takes
    length_s : how long it will be
    """
    if order.kind in MOVING:
        bits = MOVING_BITS[order.kind] * mode.width * mode.height * order.fps * length_s
        cost = Cost.of(bits / 8e6, MOVING_RANGE)
        most = order.max_mb or float("inf")
        return Cost(min(most, cost.likely), min(most, cost.low), min(most, cost.high))
    if order.kind == "png":
        bits = STILL_BITS * float(mode.pixels_per_s) * length_s
        return Cost.of(bits / 8e6, STILL_RANGE)
    if not order.has_picture:
        kbps = LOSSLESS_KBPS.get(order.kind, order.sound_kbps)
        return Cost.of(kbps * length_s / 8000, (0.5, 1.0) if order.kind == "flac" else (0.95, 1.05))
    if order.control == "constant" and not order.max_mb:
        kbps = order.kbps or usual_kbps(mode)
        return Cost.of((kbps + order.sound_kbps) * length_s / 8000, (0.97, 1.03))
    if made is None:
        return Cost(order.max_mb, 0, order.max_mb) if order.max_mb else None
    pixels = float(mode.pixels_per_s) / float(made.mode.pixels_per_s)
    kbps = made.kbps * pixels**PIXEL_POWER * exp(STEP * (made.crf - order.crf))
    kbps *= SHARES.get(order.kind, 1.0)
    cost = Cost.of((kbps + order.sound_kbps) * length_s / 8000, SIZE_RANGE)
    if not order.max_mb:
        return cost
    # What is smaller at any quality stays smaller.
    least = SOUND_KBPS[0][0] * length_s / 8000
    return Cost(order.max_mb, min(order.max_mb, max(least, cost.low)), order.max_mb)


def loudness_share(order: Export, mode: Mode) -> float:
    """How long measuring its loudness once takes, as a share of making the file."""
    if not order.has_picture:
        lossless = order.kind in LOSSLESS_KBPS
        return LOUDNESS_SHARE_OF_LOSSLESS if lossless else LOUDNESS_SHARE_OF_SOUND
    return LOUDNESS_SHARE / _effort(order, mode.width * mode.height / USUAL_PIXELS)


def _effort(order: Export, pixels: float) -> float:
    """How long a picture takes of so many times the pixels: decoding and composing are of the
    takes' size, encoding is of the export's.
    """
    times = QUICK_TIMES if order.speed in QUICK else TIMES
    return COMPOSING_SHARE + (1 - COMPOSING_SHARE) * pixels * times.get(order.kind, 1.0)


def time_s(order: Export, mode: Mode, made: Made | None, length_s: float) -> Cost | None:
    """How long making it will take, in s; None where nothing is known."""
    if not order.has_picture:
        return Cost.of(length_s / SOUND_SPEED, TIME_RANGE)
    if order.kind in MOVING or order.kind == "png":
        fps = order.fps if order.kind in MOVING else float(mode.fps)
        seconds = mode.width * mode.height * fps * length_s / MOVING_PIXELS_PER_S
        return Cost.of(seconds, (TIME_RANGE[0], 3 * TIME_RANGE[1]))
    if made is None or made.frames_per_s <= 0:
        return None
    effort = _effort(order, float(mode.pixels_per_s) / float(made.mode.pixels_per_s))
    tries = 2.0 if order.max_mb else 1.0
    return Cost.of(tries * effort * float(mode.fps) * length_s / made.frames_per_s, TIME_RANGE)
