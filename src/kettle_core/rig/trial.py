"""A trial's ladder of settings, its points, and the proposal that follows from them."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

from kettle_core.picture.quality import Quality
from kettle_core.rig.devices import Mode
from kettle_core.rig.encoder_settings import usual_kbps
from kettle_core.rig.estimate import Measured
from kettle_core.rig.format import (
    CEILING,
    CONSTANT,
    LEAST_CRF,
    LEAST_KBPS,
    MOST_CRF,
    MOST_KBPS,
    QUALITY,
    SPEEDS,
    Rate,
    Speed,
    TrackFormat,
)

FINE_ENOUGH, HEADROOM = 0.98, 0.30
# Where there is nothing to encode there would be no bound.
MOST_ROOM = 99.0
# Work of an encoder's speeds beside "superfast", of screens and of webcams; measured on the studio.
SPEED_WORK: dict[bool, dict[Speed, float]] = {
    True: dict(zip(SPEEDS, (0.65, 1.0, 1.15, 1.85, 2.0, 3.0), strict=True)),
    False: dict(zip(SPEEDS, (0.28, 1.0, 1.0, 3.2, 3.5, 9.0), strict=True)),
}
CRF_STEPS = (-8, -4, 0, 4, 8, 12)
KBPS_STEPS = (0.125, 0.25, 0.5, 1.0, 2.0)


@dataclass(frozen=True)
class TrialPoint:
    """A setting that was tried on an input.

    `kbps` is what came of it, `fps` how many frames a second one thread encodes, `head_room` how
    much faster than it must the machine encodes all tracks together with it: 0.3 is 30 %.
    """

    track: TrackFormat
    kbps: float
    fps: float
    head_room: float
    quality: Quality


@dataclass(frozen=True)
class Proposal:
    """What follows from the points: the number of one, or -1, and why."""

    number: int
    sentence: str


def ladder(track: TrackFormat, mode: Mode) -> list[TrackFormat]:
    """Six settings round the present one, in the order of rising cost.

    Quality is tried at other CRFs, a bitrate at others; where a ceiling is set also without it,
    which tells what the picture would take.

    >>> [t.rate.crf for t in ladder(TrackFormat(Rate("quality", 18)), Mode(640, 480))]
    [30, 26, 22, 18, 14, 10]
    """
    rate = track.rate
    if rate.control == QUALITY:
        crfs = {min(max(rate.crf + step, LEAST_CRF), MOST_CRF) for step in CRF_STEPS}
        return [replace(track, rate=replace(rate, crf=crf)) for crf in sorted(crfs, reverse=True)]
    kbps = rate.kbps or usual_kbps(mode)
    steps = (*KBPS_STEPS, 4.0) if rate.control == CONSTANT else KBPS_STEPS
    rates = {min(max(round(kbps * step), LEAST_KBPS), MOST_KBPS) for step in steps}
    # The present one stays as it is written.
    found = [
        replace(track, rate=rate if k == kbps else replace(rate, kbps=k)) for k in sorted(rates)
    ]
    if rate.control == CEILING:
        found.append(replace(track, rate=Rate(QUALITY, rate.crf, rate.kbps)))
    return found


def propose(name: str, present: TrackFormat, points: Sequence[TrialPoint]) -> Proposal:
    """The cheapest setting that keeps fine detail and leaves room; in a sentence with numbers."""
    tried = [(n, p) for n, p in enumerate(points) if p.track.rate.control == present.rate.control]
    good = [
        (n, p) for n, p in tried if p.quality.ssim_fine >= FINE_ENOUGH and p.head_room >= HEADROOM
    ]
    if good:
        number, best = min(good, key=lambda found: found[1].kbps)
        same = best.track == present
        return Proposal(
            number,
            f"{name}: {'the present setting' if same else in_words(best.track.rate)} is the "
            f"cheapest that keeps fine detail: {best.quality.ssim_fine:.3f} of 1 (0.98 is "
            f"wanted) at {best.kbps / 1000:.2f} Mbit/s, with {100 * best.head_room:.0f} % "
            "head-room.",
        )
    fast = [p for _, p in tried if p.head_room >= HEADROOM]
    if not fast:
        most = max((p.head_room for _, p in tried), default=0.0)
        return Proposal(
            -1,
            f"{name}: this machine is too slow for any of them, {100 * most:.0f} % head-room at "
            "the most. Less work for the encoder, a smaller size or a lower rate helps.",
        )
    best = max(fast, key=lambda p: p.quality.ssim_fine)
    return Proposal(
        -1,
        f"{name}: none keeps fine detail at 0.98; the most is {best.quality.ssim_fine:.3f} at "
        f"{best.kbps / 1000:.2f} Mbit/s, where noise counts as detail too. The present setting "
        "stays.",
    )


def in_words(rate: Rate) -> str:
    """A rate control as people read it.

    >>> in_words(Rate("ceiling", 20, 4000)), in_words(Rate("quality", 18))
    ('CRF 20 under 4000 kbit/s', 'CRF 18')
    """
    kbps = f"{rate.kbps} kbit/s" if rate.kbps else "the usual bitrate"
    return {
        QUALITY: f"CRF {rate.crf}",
        CEILING: f"CRF {rate.crf} under {kbps}",
        CONSTANT: f"constant {kbps}",
    }[rate.control]


def speeds_ms(point: TrialPoint, is_screen: bool) -> dict[Speed, float]:
    """About how many ms a frame would take at each speed, from a point that was tried."""
    work = SPEED_WORK[is_screen]
    return {s: 1000 / point.fps * work[s] / work[point.track.speed] for s in SPEEDS}


def measured(mode: Mode, points: Sequence[TrialPoint]) -> list[Measured]:
    """What points say of bitrates that quality alone decides."""
    return [
        Measured(mode, p.track.rate.crf, p.track.speed, p.kbps)
        for p in points
        if p.track.rate.control == QUALITY
    ]


def head_room(loads: Sequence[float], cores: int) -> float:
    """How much faster a machine encodes than it must: by its busiest track, and by all of them.

    Parameters
    ----------
    loads : of each track the time spent on a frame against its duration
    cores : how many the machine has

    >>> head_room([0.5, 0.1], 2), head_room([0.5, 0.5, 0.5, 0.5], 2), head_room([], 2)
    (1.0, 0.0, 99.0)
    """
    busiest = max(max(loads, default=0.0), sum(loads) / cores)
    return min(MOST_ROOM, 1 / busiest - 1) if busiest else MOST_ROOM


def track_room(load: float, others: Sequence[float], cores: int) -> float:
    """The head-room of one track: by its own thread, and by what the machine has for all.

    >>> round(track_room(0.5, [0.9], 2), 4), track_room(0.5, [0.9, 0.6], 2)
    (0.4286, 0.0)
    """
    return head_room([load, (load + sum(others)) / cores], cores)
