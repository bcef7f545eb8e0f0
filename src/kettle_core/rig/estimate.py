"""What a format costs: bitrates of tracks and program, with their range and where they come from.

A constant bitrate is arithmetic; anything else hangs on what is seen and heard: it comes from a
trial of this rig where there was one, else from a table that was measured on the studio.
"""

from bisect import bisect_right
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from math import exp, inf, log, log2

from kettle_core.rig.devices import Mode
from kettle_core.rig.encoder_settings import usual_kbps
from kettle_core.rig.format import CEILING, CONSTANT, MOST_CRF, QUALITY, Format, Rate, Speed
from kettle_core.rig.rig import Input, Rig

ARITHMETIC, TRIAL, TABLE = "arithmetic", "trial", "table"
KBPS_PER_MBPS = 1000
# Of the logarithm of a bitrate a step of CRF, where no point is.
STEP = 0.115
PCM_BITS = 24
# What a container adds to every packet, and a table of places at the end.
PACKET_BYTES = 16
# FLAC has blocks of its own, PCM those that came.
SOUND_PACKETS_PER_S = {"flac": 12, "pcm24": 100}
# FLAC's share of 24-bit PCM: a voice in a quiet room to music.
FLAC_SHARES = (0.3, 0.55, 0.8)
# CRF and kbit/s at 1920 × 1080 px and 30 fps, "superfast", measured on the studio.
SCREEN_TABLE = ((14, 640.0), (18, 530.0), (23, 430.0), (28, 320.0), (34, 240.0))
WEBCAM_TABLE = ((14, 112_000.0), (20, 40_000.0), (26, 1200.0), (32, 220.0), (38, 150.0))
TABLE_MODE = (1920, 1080, 30)
# What the table is worth: a screen may be still or scroll all the time, a webcam see by night.
SCREEN_RANGE, WEBCAM_RANGE = (0.2, 8.0), (0.1, 2.5)
# What three seconds say of the next minutes.
TRIAL_RANGES = {True: (0.65, 1.8), False: (0.7, 1.5)}
# Bitrate beside that of "superfast" at the same CRF, of screens and of webcams.
SPEED_SHARES: dict[bool, dict[Speed, float]] = {
    True: {
        "ultrafast": 1.9,
        "superfast": 1.0,
        "veryfast": 0.95,
        "fast": 0.97,
        "medium": 0.97,
        "slow": 0.95,
    },
    False: {
        "ultrafast": 0.8,
        "superfast": 1.0,
        "veryfast": 0.65,
        "fast": 0.4,
        "medium": 0.35,
        "slow": 0.33,
    },
}


@dataclass(frozen=True)
class Measured:
    """A point of a trial: a mode and settings, and the bitrate that came of them."""

    mode: Mode
    crf: int
    speed: Speed
    kbps: float


@dataclass(frozen=True)
class Cost:
    """What something takes, in kbit/s: as expected, at least and at most; `basis` says from what.

    `pixels_per_s` is 0 for a sound.
    """

    id: str
    name: str
    kbps: float
    low_kbps: float
    high_kbps: float
    basis: str
    pixels_per_s: Fraction = Fraction(0)

    @property
    def mbit_per_s(self) -> float:
        """In Mbit/s."""
        return self.kbps / KBPS_PER_MBPS

    @property
    def bits_per_pixel(self) -> float | None:
        """Bits for each pixel of each frame; None for a sound."""
        return float(self.kbps * 1000 / self.pixels_per_s) if self.pixels_per_s else None

    def bytes_in(self, seconds: float) -> tuple[float, float, float]:
        """Bytes in a time: as expected, at least, at most."""
        eighth = 125 * seconds
        return self.kbps * eighth, self.low_kbps * eighth, self.high_kbps * eighth


def track_costs(rig: Rig, trials: Mapping[str, Sequence[Measured]]) -> list[Cost]:
    """What each track of a rig takes.

    Parameters
    ----------
    rig : Rig
    trials : points of the last trial by input id; what is missing comes from the table
    """
    return [
        _picture(rig, i, trials.get(i.id, ())) if i.is_picture else _sound(rig.format, i)
        for i in rig.inputs
        if i.has_track
    ]


def program_cost(rig: Rig, trials: Mapping[str, Sequence[Measured]]) -> Cost:
    """What the program takes, picture and sound."""
    format_, program = rig.format, rig.format.program
    mode = Mode(*format_.frame_size, format_.fps)
    free = replace(program.rate, control=QUALITY)
    found = []
    for layer in rig.seen_in(rig.default_scene).layers:
        item, box = rig.input(layer.input_id), layer.box
        if item.is_still:
            continue
        # What lies in a part of the frame moves in that part only.
        share = min(Fraction(1), Fraction(box.width * box.height, mode.width * mode.height))
        part = replace(mode, fps=min(mode.fps, item.mode.fps) * share)
        points = trials.get(item.id, ())
        # Where it is made smaller its noise is averaged: as if coarser by 6 of CRF for each half.
        smaller = 0.0 if item.is_screen else max(0.0, log2(layer.crop.width / box.width))
        eased = replace(free, crf=min(MOST_CRF, free.crf + round(6 * smaller)))
        found.append(_of_picture(eased, program.speed, part, item.is_screen, points))
    picture = _together("program", "Program", found)
    picture = _held("program", "Program", picture, program.rate, mode)
    kbps = program.sound_kbps
    sound = Cost("", "", kbps, kbps * 0.9, kbps * 1.1, ARITHMETIC)
    whole = _together("program", "Program", [picture, sound])
    return replace(whole, pixels_per_s=mode.pixels_per_s)


def together(costs: Sequence[Cost]) -> Cost:
    """Costs in all."""
    return _together("all", "In all", costs)


def longest_s(cost: Cost, size_bytes: float) -> float:
    """How long it may be to stay below a size, at the most that it may take."""
    return size_bytes / (cost.high_kbps * 125) if cost.high_kbps else 0.0


def upload_s(size_bytes: float, line_mbps: float) -> float:
    """How long a file takes on a line of so many Mbit/s."""
    return size_bytes * 8 / (line_mbps * 1e6)


def _sound(format_: Format, item: Input) -> Cost:
    pcm = item.mode.sample_rate_hz * item.mode.channels * PCM_BITS / 1000
    packets = SOUND_PACKETS_PER_S[format_.files.sound_codec] * PACKET_BYTES * 8 / 1000
    if format_.files.sound_codec == "pcm24":
        return Cost(item.id, item.name, pcm + packets, pcm, pcm * 1.01, ARITHMETIC)
    low, share, high = (pcm * s + packets for s in FLAC_SHARES)
    return Cost(item.id, item.name, share, low, high, TABLE)


def _picture(rig: Rig, item: Input, points: Sequence[Measured]) -> Cost:
    track, mode = rig.track_of(item), rig.track_mode(item)
    found = _of_picture(track.rate, track.speed, mode, item.is_screen, points)
    held = _held(item.id, item.name, found, track.rate, mode)
    return replace(held, pixels_per_s=mode.pixels_per_s)


def _of_picture(
    rate: Rate, speed: Speed, mode: Mode, is_screen: bool, points: Sequence[Measured]
) -> Cost:
    """What quality alone would take."""
    if not points:
        table = SCREEN_TABLE if is_screen else WEBCAM_TABLE
        low, high = SCREEN_RANGE if is_screen else WEBCAM_RANGE
        size = Mode(TABLE_MODE[0], TABLE_MODE[1], Fraction(TABLE_MODE[2]))
        points = [Measured(size, crf, "superfast", kbps) for crf, kbps in table]
        basis = TABLE
    else:
        (low, high), basis = TRIAL_RANGES[is_screen], TRIAL
    nearest = min(points, key=lambda p: abs(p.crf - rate.crf))
    kbps = kbps_at([(p.crf, p.kbps) for p in points if p.speed == nearest.speed], rate.crf)
    kbps *= SPEED_SHARES[is_screen][speed] / SPEED_SHARES[is_screen][nearest.speed]
    kbps *= float(mode.pixels_per_s / nearest.mode.pixels_per_s) ** 0.75
    return Cost("", "", kbps, kbps * low, kbps * high, basis)


def kbps_at(points: Sequence[tuple[int, float]], crf: int) -> float:
    """A bitrate between points of (CRF, kbit/s), straight on a logarithmic scale.

    Beyond the last point it goes on by 12 % a step of CRF.

    >>> [round(kbps_at([(18, 800.0), (22, 200.0)], crf)) for crf in (18, 20, 22, 24)]
    [800, 400, 200, 159]
    """
    rising = sorted(points)
    crfs, logs = [p[0] for p in rising], [log(p[1]) for p in rising]
    if crf <= crfs[0]:
        return exp(logs[0] + (crfs[0] - crf) * STEP)
    if crf >= crfs[-1]:
        return exp(logs[-1] - (crf - crfs[-1]) * STEP)
    place = bisect_right(crfs, crf) - 1
    share = (crf - crfs[place]) / (crfs[place + 1] - crfs[place])
    return exp(logs[place] * (1 - share) + logs[place + 1] * share)


def _held(cost_id: str, name: str, free: Cost, rate: Rate, mode: Mode) -> Cost:
    """A cost as its rate control holds it, with what the container adds."""
    packets = float(mode.fps) * PACKET_BYTES * 8 / 1000
    kbps = rate.kbps or usual_kbps(mode)
    if rate.control == CONSTANT:
        # At the beginning there is no more than a moment's worth to be off by.
        return Cost(cost_id, name, kbps + packets, kbps * 0.99, (kbps + packets) * 1.01, ARITHMETIC)
    most = float(kbps) if rate.control == CEILING else inf
    basis = ARITHMETIC if free.low_kbps >= most else free.basis
    usual, low, high = (min(v, most) for v in (free.kbps, free.low_kbps, free.high_kbps))
    return Cost(cost_id, name, usual + packets, low * 0.98 + packets, high * 1.02 + packets, basis)


def _together(cost_id: str, name: str, costs: Sequence[Cost]) -> Cost:
    # What is least sure says most of where it comes from.
    unsure = max(costs, key=lambda c: c.high_kbps - c.low_kbps, default=None)
    basis = unsure.basis if unsure else ARITHMETIC
    usual, low, high = (
        sum((getattr(c, n) for c in costs), 0.0) for n in ("kbps", "low_kbps", "high_kbps")
    )
    return Cost(cost_id, name, usual, low, high, basis)
