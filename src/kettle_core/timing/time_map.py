"""From one time axis to another: program time to take time, take time to record time.

A time map lays pieces of sources one after the other. Times are exact: `Fraction` ns on both
sides, so that maps compose without an error that grows; who needs whole ns rounds at the edge
(`to_ns`).
"""

from bisect import bisect_right
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction
from typing import Literal, NamedTuple

from kettle_core.errors import TimingError

Exact = Fraction | int
# As fast as the fastest piece that is rounded to a frame.
MOST_SPEED = Fraction(128)


@dataclass(frozen=True, order=True)
class Source:
    """What a piece is taken from: a take by its UUID, a card or a file by its name."""

    kind: Literal["take", "card", "file"]
    id: str


@dataclass(frozen=True)
class Piece:
    """A half-open stretch [start, end) of a time axis, and what of a source lies there.

    At its start lies `from_ns` of the source; from there on the source runs at `speed`. Its sound
    is heard at speed 1, and where it is `stretched` at any.
    """

    start_ns: Fraction
    end_ns: Fraction
    source: Source
    from_ns: Fraction
    speed: Fraction = Fraction(1)
    stretched: bool = False

    def source_ns(self, at_ns: Exact) -> Fraction:
        """What of the source lies at a time."""
        return self.from_ns + (at_ns - self.start_ns) * self.speed

    @property
    def until_ns(self) -> Fraction:
        """Where its source ends, half-open like the piece."""
        return self.source_ns(self.end_ns)

    def goes_on_with(self, other: "Piece") -> bool:
        """Whether another piece, laid after this one, carries on where this one ends."""
        ours = self.source, self.speed, self.stretched, self.until_ns
        return ours == (other.source, other.speed, other.stretched, other.from_ns)


class Part(NamedTuple):
    """Of what a piece is made: a half-open stretch of a source."""

    source: Source
    from_ns: Exact
    until_ns: Exact
    speed: Exact = 1
    stretched: bool = False


@dataclass(frozen=True)
class TimeMap:
    """Pieces from 0 to the map's length without a gap or an overlap.

    Make one with `lay` or `closed`: they join pieces that go on with each other, so that maps
    which lead to the same places are equal.
    """

    pieces: tuple[Piece, ...] = ()
    _starts: list[Fraction] = field(default_factory=list, init=False, repr=False, compare=False)

    def __post_init__(self) -> None:
        now = Fraction(0)
        for piece in self.pieces:
            if piece.start_ns != now or piece.end_ns <= piece.start_ns:
                raise TimingError(
                    f"Pieces must follow each other, got one from {float(piece.start_ns):.0f} to "
                    f"{float(piece.end_ns):.0f} ns after {float(now):.0f} ns."
                )
            if not 0 < piece.speed <= MOST_SPEED:
                raise TimingError(
                    f"A speed is above 0 and at most {MOST_SPEED}, got {piece.speed}."
                )
            now = piece.end_ns
        object.__setattr__(self, "_starts", [p.start_ns for p in self.pieces])

    @property
    def length_ns(self) -> Fraction:
        """Where the last piece ends."""
        return self.pieces[-1].end_ns if self.pieces else Fraction(0)

    def piece_at(self, at_ns: Exact) -> Piece:
        """The piece that a time lies in.

        Raises
        ------
        TimingError
            If the time lies outside [0, length).
        """
        if not 0 <= at_ns < self.length_ns:
            raise TimingError(
                f"{float(at_ns):.0f} ns lies outside of {float(self.length_ns):.0f} ns."
            )
        return self.pieces[bisect_right(self._starts, at_ns) - 1]

    def source_at(self, at_ns: Exact) -> tuple[Source, Fraction]:
        """What lies at a time, and where in it. Raises TimingError outside [0, length)."""
        piece = self.piece_at(at_ns)
        return piece.source, piece.source_ns(at_ns)

    def program_times(self, source: Source, source_ns: Exact) -> tuple[Fraction, ...]:
        """All times at which a place of a source is seen: none, one or several, rising."""
        return tuple(
            piece.start_ns + (source_ns - piece.from_ns) / piece.speed
            for piece in self.pieces
            if piece.source == source and piece.from_ns <= source_ns < piece.until_ns
        )

    def program_time_from(self, source: Source, source_ns: Exact) -> Fraction:
        """When a place of a source, or the first after it that is seen at all, is seen first."""
        for piece in self.pieces:
            if piece.source == source and source_ns < piece.until_ns:
                return piece.start_ns + max(Fraction(0), source_ns - piece.from_ns) / piece.speed
        return self.length_ns

    def program_stretches(
        self, source: Source, from_ns: Exact, until_ns: Exact
    ) -> tuple[tuple[Fraction, Fraction], ...]:
        """Where a half-open stretch of a source is seen, rising; what goes on is one stretch."""
        found: list[tuple[Fraction, Fraction]] = []
        for piece in self.pieces:
            if piece.source != source:
                continue
            first, end = max(piece.from_ns, from_ns), min(piece.until_ns, until_ns)
            if first >= end:
                continue
            start, stop = ((x - piece.from_ns) / piece.speed for x in (first, end))
            start, stop = piece.start_ns + start, piece.start_ns + stop
            if found and found[-1][1] == start:
                start = found.pop()[0]
            found.append((start, stop))
        return tuple(found)

    def through(self, inner: Mapping[Source, "TimeMap"]) -> "TimeMap":
        """Look up the sources in their own maps; other sources stay.

        `cut_list.through({take: pauses_closed})` leads from program time to record time.

        Raises
        ------
        TimingError
            If a piece reaches beyond its source's map.
        """
        parts: list[Part] = []
        for piece in self.pieces:
            known = inner.get(piece.source)
            how = piece.speed, piece.stretched
            if known is None:
                parts.append(Part(piece.source, piece.from_ns, piece.until_ns, *how))
                continue
            if piece.from_ns < 0 or piece.until_ns > known.length_ns:
                raise TimingError(
                    f"A piece ends at {float(piece.until_ns) / 1e9:.3f} s of "
                    f"{piece.source.kind} {piece.source.id}, which is "
                    f"{float(known.length_ns) / 1e9:.3f} s long."
                )
            for found in known.within(piece.from_ns, piece.until_ns):
                speed = piece.speed * found.speed
                parts.append(
                    Part(found.source, found.from_ns, found.until_ns, speed, piece.stretched)
                )
        return lay(parts)

    def within(self, from_ns: Exact, until_ns: Exact) -> Sequence[Piece]:
        """The pieces between two times, the first and last cut to them."""
        found = []
        for piece in self.pieces[max(0, bisect_right(self._starts, from_ns) - 1) :]:
            start, end = max(piece.start_ns, from_ns), min(piece.end_ns, until_ns)
            if piece.start_ns >= until_ns:
                break
            if start < end:
                moved = piece.source_ns(start)
                found.append(
                    replace(piece, start_ns=Fraction(start), end_ns=Fraction(end), from_ns=moved)
                )
        return found


def lay(parts: Iterable[Part | tuple[Source, Exact, Exact, Exact]]) -> TimeMap:
    """Lay stretches of sources one after the other; empty ones are left out.

    Raises
    ------
    TimingError
        If a stretch ends before it begins or has no possible speed.
    """
    pieces: list[Piece] = []
    now = Fraction(0)
    for source, from_ns, until_ns, speed, stretched in (Part(*part) for part in parts):
        if until_ns < from_ns or not 0 < speed <= MOST_SPEED:
            raise TimingError(
                f"A piece of {source.kind} {source.id} from {float(from_ns):.0f} to "
                f"{float(until_ns):.0f} ns at speed {speed} can't be laid."
            )
        if until_ns == from_ns:
            continue
        end = now + Fraction(until_ns - from_ns) / Fraction(speed)
        piece = Piece(now, end, source, Fraction(from_ns), Fraction(speed), stretched)
        if pieces and pieces[-1].goes_on_with(piece):
            pieces[-1] = replace(pieces[-1], end_ns=end)
        else:
            pieces.append(piece)
        now = end
    return TimeMap(tuple(pieces))


def closed(source: Source, length_ns: Exact, away: Iterable[tuple[Exact, Exact]]) -> TimeMap:
    """A source without some stretches of it: pauses closed.

    Parameters
    ----------
    source : what is closed
    length_ns : its length
    away : half-open stretches in any order; they may overlap or lie outside
    """
    parts: list[Part] = []
    now: Exact = 0
    for from_ns, until_ns in sorted(away):
        parts.append(Part(source, now, max(now, min(from_ns, length_ns))))
        now = max(now, min(until_ns, length_ns))
    return lay([*parts, Part(source, now, length_ns)])


def to_ns(exact: Exact) -> int:
    """The nearest whole ns, half to even: the rule by which exact times become stamps."""
    return round(exact)
