"""Frames that were dropped, and gaps: of what, since when, how many, why, in words."""

from collections.abc import Sequence
from dataclasses import dataclass

from kettle_core.timing.ticks import NS_PER_S

# So long without a drop, and it is over.
OVER_AFTER_NS = 2 * NS_PER_S
# Devices that are back within this time of each other were away for one reason.
ONE_MOMENT_NS = 2 * NS_PER_S
DEVICE, BUSY, ENCODER = "device", "busy", "encoder"
WHY = {
    DEVICE: "the device gave fewer",
    BUSY: "the machine is too busy",
    ENCODER: "the machine encodes too slowly",
}


@dataclass(frozen=True)
class Drops:
    """Frames or blocks lost one after the other; times in record time, ns."""

    since_ns: int
    until_ns: int
    frames: int
    of: int
    why: str


class DropWatch:
    """Counts the drops of one track. Times are record time, ns."""

    def __init__(self) -> None:
        self.now: Drops | None = None
        self._written_at_start = 0

    def dropped(self, frames: int, why: str, at_ns: int, written: int) -> bool:
        """Add drops, with how many frames the track has; whether they are the first of a row."""
        before = self.now
        if before is None:
            self._written_at_start = written
            self.now = Drops(at_ns, at_ns, frames, frames, why)
            return True
        of = before.frames + frames + written - self._written_at_start
        why = why if why != DEVICE else before.why
        self.now = Drops(before.since_ns, at_ns, before.frames + frames, of, why)
        return False

    def over(self, at_ns: int) -> Drops | None:
        """The drops that have come to an end by a time, once."""
        found = self.now
        if found is None or at_ns - found.until_ns < OVER_AFTER_NS:
            return None
        self.now = None
        return found

    def end(self) -> Drops | None:
        """What goes on when the take ends."""
        found, self.now = self.now, None
        return found


def in_words(name: str, drops: Drops, is_picture: bool, whole: bool, lighter: str = "") -> str:
    """What a page says of drops that go on, and what to change where the machine is the reason.

    `whole` says that no sound was lost; `lighter` is a mode that is less work.

    >>> drops = Drops(12 * 10**9, 30 * 10**9, 218, 570, BUSY)
    >>> in_words("Desk webcam", drops, True, True, "1280 × 720 px · 60 fps").partition(". ")[0]
    'Desk webcam: 218 of 570 frames dropped since 0:12, the machine is too busy; sound is whole'
    """
    unit = _unit(is_picture)
    told = f"{name}: {drops.frames} of {drops.of} {unit} dropped since {_minutes(drops.since_ns)}, "
    told += WHY[drops.why] + ("; sound is whole." if whole else ".")
    if drops.why == DEVICE:
        return told
    otherwise = f", or record it as {lighter}" if lighter else ""
    return f"{told} Close what you don't need{otherwise}."


@dataclass(frozen=True)
class Gap:
    """What is missing of an input before a record time, at which its device was back; in ns."""

    name: str
    at_ns: int
    missing_ns: int


def gaps_in_words(gaps: Sequence[Gap]) -> list[str]:
    """What is said of devices that were away and are back; those of one moment in one sentence.

    >>> gaps_in_words([Gap("Headset", 72 * 10**9, 530_000_000)])
    ['Headset: 0.5 s are missing before 1:12, its device was away.']
    >>> gaps_in_words([Gap("Tablet", 9 * 10**9, 2 * 10**8), Gap("Headset", 9 * 10**9, 4 * 10**8)])
    ['Tablet and Headset: up to 0.4 s are missing before 0:09, their devices were away.']
    """
    moments: list[list[Gap]] = []
    for gap in sorted(gaps, key=lambda gap: gap.at_ns):
        if moments and gap.at_ns - moments[-1][0].at_ns < ONE_MOMENT_NS:
            moments[-1].append(gap)
        else:
            moments.append([gap])
    return [_moment_in_words(moment) for moment in moments]


def _moment_in_words(gaps: Sequence[Gap]) -> str:
    *others, last = dict.fromkeys(gap.name for gap in gaps)
    names = f"{', '.join(others)} and {last}" if others else last
    seconds = f"{max(gap.missing_ns for gap in gaps) / NS_PER_S:.1f} s"
    most, whose = ("up to ", "their devices were") if others else ("", "its device was")
    when = _minutes(gaps[0].at_ns)
    return f"{names}: {most}{seconds} are missing before {when}, {whose} away."


def away_in_words(name: str, since_ns: int, is_picture: bool) -> str:
    """What is said of a device that is away now.

    >>> away_in_words("Voice", 72 * 10**9, False)
    'Voice is away since 1:12: silence is recorded until it is back. Plug it in; the rest goes on.'
    """
    what = "its last picture stands" if is_picture else "silence is recorded"
    since = _minutes(since_ns)
    return f"{name} is away since {since}: {what} until it is back. Plug it in; the rest goes on."


def dropped_in_words(name: str, dropped: int, of: int, is_picture: bool) -> str:
    """What is said of a track's drops when the take has ended.

    >>> dropped_in_words("Desk webcam", 31, 1800, True)
    'Desk webcam: 31 of 1800 frames were dropped.'
    """
    return f"{name}: {dropped} of {of} {_unit(is_picture)} were dropped."


def _unit(is_picture: bool) -> str:
    return "frames" if is_picture else "blocks of sound"


def _minutes(at_ns: int) -> str:
    minutes, seconds = divmod(at_ns // NS_PER_S, 60)
    return f"{minutes}:{seconds:02d}"
