"""Where the pieces of a cut list lie in the program, and how fast they run."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from fractions import Fraction
from math import floor

from kettle_core.assembly.cut_list import CutList, Piece
from kettle_core.errors import CutError
from kettle_core.timing.ticks import NS_PER_S
from kettle_core.timing.time_map import Part, TimeMap, lay

HALF = Fraction(1, 2)


@dataclass(frozen=True)
class Laid:
    """A piece where it lies in the program, and what of its take is seen there, in exact ns.

    One that is out lies at one time: where what comes after it begins.
    """

    piece: Piece
    start_ns: Fraction
    end_ns: Fraction
    from_ns: Fraction
    until_ns: Fraction

    @property
    def is_seen(self) -> bool:
        """Whether it takes time; one that is shorter than half a frame does not."""
        return self.end_ns > self.start_ns

    @property
    def speed(self) -> Fraction:
        """Take time for each second of the program; as was asked where nothing is seen."""
        if not self.is_seen:
            return self.piece.speed
        return (self.until_ns - self.from_ns) / (self.end_ns - self.start_ns)

    @property
    def is_heard(self) -> bool:
        """Whether its take's sound is: as it was recorded, or stretched."""
        return self.speed == 1 or self.piece.sound == "stretched"

    def program_ns(self, take_ns: Fraction | int) -> Fraction:
        """When a place of its take is seen; of one that is not, its nearer end."""
        at_ns = self.start_ns + (take_ns - self.from_ns) / self.speed
        return min(max(self.start_ns, at_ns), self.end_ns)

    def take_ns(self, program_ns: Fraction | int) -> Fraction:
        """What of its take is seen at a time of the program."""
        return self.from_ns + (program_ns - self.start_ns) * self.speed


def laid(cuts: CutList, fps: Fraction) -> tuple[Laid, ...]:
    """All pieces in the program; each that is shown lasts a whole number of its frames.

    This alone says where pieces lie and how fast they run. At speed 1 a piece is seen from where
    it was cut, or from where the one before has ended that it goes on from. What runs at another
    speed is seen to its own end: a little faster or slower than was asked, so that it fills its
    frames. A piece may round to no frame.
    """
    shown = _lay_shown(cuts.shown, NS_PER_S / fps)
    found: list[Laid] = []
    now = Fraction(0)
    for piece in cuts.pieces:
        place = Fraction(piece.from_ns)
        found.append(Laid(piece, now, now, place, place) if piece.out else next(shown))
        now = found[-1].end_ns
    return tuple(found)


def _lay_shown(pieces: Iterable[Piece], frame_ns: Fraction) -> Iterator[Laid]:
    """Pieces that take time, one after the other."""
    start, ends, before = Fraction(0), Fraction(0), None
    for run in _runs(pieces):
        speed, last = run[0].speed, run[-1]
        goes_on = before and before.take == run[0].take and before.until_ns == run[0].from_ns
        begins = ends if goes_on else Fraction(run[0].from_ns)
        whole_ns = last.until_ns - begins
        if speed != 1 and (frames := _frames(whole_ns / speed, frame_ns)):
            speed = whole_ns / (frames * frame_ns)
        done = 0
        for piece in run:
            place = _frames((piece.until_ns - begins) / speed, frame_ns)
            seen = (begins + frames * frame_ns * speed for frames in (done, place))
            yield Laid(piece, start + done * frame_ns, start + place * frame_ns, *seen)
            done = place
        start += done * frame_ns
        ends = begins + done * frame_ns * speed
        if speed != 1:
            ends = max(ends, Fraction(last.until_ns))
        before = last


def _runs(pieces: Iterable[Piece]) -> Iterator[list[Piece]]:
    """Pieces that go on with each other at one speed, together."""
    run: list[Piece] = []
    for piece in pieces:
        ours = piece.take, piece.percent, piece.from_ns
        if run and (run[-1].take, run[-1].percent, run[-1].until_ns) != ours:
            yield run
            run = []
        run.append(piece)
    if run:
        yield run


def _frames(length_ns: Fraction, frame_ns: Fraction) -> int:
    """How many frames are nearest to a length; half a frame counts as one.

    So a piece that is parted on a frame stays as long.
    """
    return max(0, floor(length_ns / frame_ns + HALF))


def time_map(cuts: CutList, fps: Fraction) -> TimeMap:
    """From program time to take time."""
    return lay(
        Part(
            cuts.source(one.piece),
            one.from_ns,
            one.until_ns,
            one.speed,
            one.piece.sound == "stretched",
        )
        for one in laid(cuts, fps)
        if one.is_seen
    )


def check_is_seen(cuts: CutList, fps: Fraction) -> None:
    """Raise CutError where nothing of a cut list lasts a frame."""
    if not cuts.shown:
        raise CutError("Nothing is left in the cut list. Take something back.", "cuts")
    if not any(one.is_seen for one in laid(cuts, fps)):
        raise CutError(
            f"No piece of the cut list is as long as half a frame ({float(500 / fps):.0f} ms), so "
            "nothing would be seen. Take something back, or choose lower speeds.",
            "cuts",
        )


def unseen(before: CutList, after: CutList, fps: Fraction) -> list[Piece]:
    """What a change has made too short for a frame."""
    known = {one.piece for one in laid(before, fps) if not one.is_seen}
    shown = (one for one in laid(after, fps) if not one.piece.out)
    return [one.piece for one in shown if not one.is_seen and one.piece not in known]


def too_short(before: CutList, after: CutList, fps: Fraction) -> str:
    """What a change has made too short for a frame, in words; "" where there is nothing."""
    found = unseen(before, after, fps)
    if not found:
        return ""
    longest_ms = float(max(piece.length_ns for piece in found)) / 1e6
    what = "A piece is" if len(found) == 1 else f"{len(found)} pieces are"
    return f"{what} shorter than half a frame ({longest_ms:.1f} ms), so not seen"
