"""Pauses of a take while it is recorded: which captures are written, and which are left out.

Record time runs through a pause. Its beginning is written all the same, so that what was said
then can be had back; the rest is left out of the tracks. Take time is without pauses
(`TimeMap`, `closed`).
"""

import math

from kettle_core.errors import TimingError
from kettle_core.timing.ticks import NS_PER_S

# So much of each pause is written.
KEPT_NS = 5 * NS_PER_S


class Pauses:
    """Half-open stretches [start, end) of record time in ns, the last of them perhaps open.

    One thread adds to it while others ask.

    >>> pauses = Pauses()
    >>> pauses.begin(10 * NS_PER_S)
    >>> pauses.end(60 * NS_PER_S)
    >>> pauses.leave_out(14 * NS_PER_S, 16 * NS_PER_S)
    False
    >>> pauses.leave_out(59 * NS_PER_S, 60 * NS_PER_S)
    True
    """

    def __init__(self) -> None:
        self.stretches: tuple[tuple[int, int | None], ...] = ()
        # Up to here all beginnings and ends are known: who hears of them may be late.
        self.known_until_ns = math.inf

    @property
    def is_open(self) -> bool:
        """Whether a pause has no end yet."""
        return bool(self.stretches) and self.stretches[-1][1] is None

    def begin(self, at_ns: int) -> None:
        """A pause begins. Raises TimingError within one."""
        if self.is_open:
            raise TimingError("A pause has begun already.")
        self.stretches = (*self.stretches, (at_ns, None))

    def end(self, at_ns: int) -> None:
        """The pause ends. Raises TimingError where there is none."""
        if not self.is_open:
            raise TimingError("There is no pause that could end.")
        self.stretches = (*self.stretches[:-1], (self.stretches[-1][0], at_ns))

    @property
    def unwritten(self) -> tuple[tuple[int, int | None], ...]:
        """What is left out of the tracks, half-open; None where it has no end yet."""
        rests = ((start + KEPT_NS, end) for start, end in self.stretches)
        return tuple((start, end) for start, end in rests if end is None or start < end)

    def outside_ns(self, from_ns: int, until_ns: int) -> int:
        """How much of a stretch is written, as no pause leaves it out."""
        found = max(0, until_ns - from_ns)
        for start, end in self.unwritten:
            found -= max(0, min(until_ns, until_ns if end is None else end) - max(from_ns, start))
        return found

    def leave_out(self, from_ns: int, until_ns: int) -> bool:
        """Whether a capture of a stretch lies wholly in what is not written."""
        # Captures come late by a second at most; no more pauses fit in there.
        return any(
            from_ns >= start + KEPT_NS and (end is None or until_ns <= end)
            for start, end in self.stretches[-4:]
        )
