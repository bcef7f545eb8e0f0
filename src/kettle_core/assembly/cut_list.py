"""The cut list: of which pieces of which takes a tutorial is made, as one value.

What was taken out stays in the list, in its place: it takes no time, and is taken back at any time.
Places are those of takes, so that a change that was decided on an older list still means the same.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Annotated, Literal

from annotated_types import Interval, MaxLen, MinLen

from kettle_core.errors import CutError
from kettle_core.timing.ticks import NS_PER_S
from kettle_core.timing.time_map import Part, Source, TimeMap, lay

MOST_PIECES, MOST_NS = 10_000, 10**15
LEAST_PERCENT, MOST_PERCENT = 10, 6400
Id = Annotated[str, MinLen(1), MaxLen(80)]
TakeNs = Annotated[int, Interval(ge=0, le=MOST_NS)]
Percent = Annotated[int, Interval(ge=LEAST_PERCENT, le=MOST_PERCENT)]


@dataclass(frozen=True)
class Piece:
    """A part of a take, half-open in take time.

    At another speed than 100 its `sound` is left out, or stretched so that it keeps its pitch.
    One that is `out` takes no time.
    """

    id: Id
    take: Id
    from_ns: TakeNs
    until_ns: TakeNs
    out: bool = False
    percent: Percent = 100
    sound: Literal["off", "stretched"] = "off"

    @property
    def speed(self) -> Fraction:
        """Take time for each second of the program."""
        return Fraction(self.percent, 100)

    @property
    def length_ns(self) -> Fraction:
        """How long it lasts in the program, were it not taken out."""
        return (self.until_ns - self.from_ns) / self.speed

    def goes_on_with(self, other: "Piece") -> bool:
        """Whether another one carries on where this one ends, as this one is."""
        return other == replace(self, id=other.id, from_ns=self.until_ns, until_ns=other.until_ns)


@dataclass(frozen=True)
class CutList:
    """Pieces in the order in which they are seen."""

    pieces: Annotated[tuple[Piece, ...], MaxLen(MOST_PIECES)] = ()

    @property
    def shown(self) -> tuple[Piece, ...]:
        """Those that take time."""
        return tuple(p for p in self.pieces if not p.out)

    @property
    def length_ns(self) -> Fraction:
        """How long the program is, but for what is rounded to its frames."""
        return sum((p.length_ns for p in self.shown), Fraction(0))

    def piece(self, piece_id: str) -> Piece:
        """A piece by its id. Raises CutError."""
        found = next((p for p in self.pieces if p.id == piece_id), None)
        if found is None:
            raise CutError("This piece is gone from the cut list. Reload the page.", "piece")
        return found


@dataclass(frozen=True)
class Place:
    """A time of a take within a piece of it, its end included.

    Where the piece was divided meanwhile it is a place of the part that has that time.
    """

    piece: str
    at_ns: int

    def now(self, cuts: CutList) -> "Place":
        """The same place in a list that may have been changed. Raises CutError."""
        piece = cuts.piece(self.piece)
        if piece.from_ns <= self.at_ns <= piece.until_ns:
            return self
        # What was parted off a piece comes after it.
        number = cuts.pieces.index(piece)
        for part in (*cuts.pieces[number + 1 :], *reversed(cuts.pieces[:number])):
            if part.take == piece.take and part.from_ns <= self.at_ns <= part.until_ns:
                return Place(part.id, self.at_ns)
        raise CutError("This place is gone from the cut list. Reload the page.", "piece")


@dataclass(frozen=True)
class Known:
    """What a cut list is about: the takes' lengths in ns by their UUIDs, the frame rate."""

    takes: dict[str, int]
    fps: Fraction = Fraction(30)


def checked(cuts: CutList, known: Known) -> CutList:
    """The list itself, if all that it names is there. Raises CutError."""
    ids = set()
    for number, piece in enumerate(cuts.pieces, 1):
        words = f"Piece {number}"
        if piece.id in ids:
            raise CutError(f"{words} is called “{piece.id}” like another one.", "id")
        ids.add(piece.id)
        if piece.take not in known.takes:
            raise CutError(f"{words} is of a take that is not in this tutorial.", "take")
        length_ns = known.takes[piece.take]
        if not 0 <= piece.from_ns < piece.until_ns <= length_ns:
            raise CutError(
                f"{words} goes from {piece.from_ns / 1e9:.3f} to {piece.until_ns / 1e9:.3f} s of a "
                f"take of {length_ns / 1e9:.3f} s. A piece begins before it ends, within its take.",
                "until_ns",
            )
    return cuts


@dataclass(frozen=True)
class Laid:
    """A piece where it lies in the program, and what of its take is seen there, in exact ns.

    One that is out lies at one time: where what comes after it begins.
    """

    piece: Piece
    start_ns: Fraction
    end_ns: Fraction
    from_ns: Fraction

    @property
    def until_ns(self) -> Fraction:
        """Where in its take it ends."""
        return self.from_ns + (self.end_ns - self.start_ns) * self.piece.speed


def laid(cuts: CutList, fps: Fraction) -> tuple[Laid, ...]:
    """All pieces in the program; each that is shown lasts a whole number of its frames.

    What goes on from the piece before goes on exactly. A piece may round to no frame.
    """
    found: list[Laid] = []
    now = Fraction(0)
    before: Laid | None = None
    for piece in cuts.pieces:
        begins, frames = Fraction(piece.from_ns), 0
        if not piece.out:
            one = before.piece if before else None
            if before and one and (one.take, one.until_ns) == (piece.take, piece.from_ns):
                begins = before.until_ns
            frames = round((piece.until_ns - begins) / piece.speed * fps / NS_PER_S)
        found.append(Laid(piece, now, now + frames * NS_PER_S / fps, begins))
        now = found[-1].end_ns
        before = before if piece.out else found[-1]
    return tuple(found)


def time_map(cuts: CutList, fps: Fraction) -> TimeMap:
    """From program time to take time."""
    return lay(
        Part(
            Source("take", one.piece.take),
            one.from_ns,
            one.until_ns,
            one.piece.speed,
            one.piece.sound == "stretched",
        )
        for one in laid(cuts, fps)
        if not one.piece.out
    )


# changes


def with_take(cuts: CutList, known: Known, take: str, at_end: bool = True) -> CutList:
    """A whole take more. Raises CutError."""
    piece = Piece(_new_id(cuts), take, 0, known.takes.get(take, 0))
    pieces = (*cuts.pieces, piece) if at_end else (piece, *cuts.pieces)
    return checked(CutList(pieces), known)


def split(cuts: CutList, known: Known, place: Place) -> CutList:
    """A piece as two, parted on a frame; at its ends nothing changes. Raises CutError."""
    place = place.now(cuts)
    number = cuts.pieces.index(cuts.piece(place.piece))
    piece = cuts.pieces[number]
    at_ns = _on_frame(piece, place.at_ns, known.fps)
    if not piece.from_ns < at_ns < piece.until_ns:
        return cuts
    parts = (
        replace(piece, until_ns=at_ns),
        replace(piece, id=_new_id(cuts), from_ns=at_ns),
    )
    return _within_limit((*cuts.pieces[:number], *parts, *cuts.pieces[number + 1 :]))


def take_out(cuts: CutList, known: Known, begins: Place, ends: Place) -> CutList:
    """Without what lies between two places; the gap is closed on all tracks. Raises CutError."""
    return changed_between(cuts, known, begins, ends, {"out": True})


def take_back(cuts: CutList, known: Known, begins: Place, ends: Place) -> CutList:
    """With what was taken out between two places; it joins what it goes on with.

    Raises CutError.
    """
    return joined(changed_between(cuts, known, begins, ends, {"out": False}))


def at_speed(
    cuts: CutList, known: Known, begins: Place, ends: Place, percent: int, stretched: bool
) -> CutList:
    """What lies between two places faster or slower; at 100 as it was. Raises CutError."""
    if not LEAST_PERCENT <= percent <= MOST_PERCENT:
        raise CutError(
            f"A speed is {LEAST_PERCENT / 100:g} to {MOST_PERCENT / 100:g} ×, "
            f"got {percent / 100:g}.",
            "percent",
        )
    sound: Literal["off", "stretched"] = "stretched" if stretched and percent != 100 else "off"
    return joined(changed_between(cuts, known, begins, ends, {"percent": percent, "sound": sound}))


def trimmed(cuts: CutList, known: Known, piece_id: str, from_ns: int, until_ns: int) -> CutList:
    """A piece that begins or ends elsewhere in its take. Raises CutError."""
    piece = cuts.piece(piece_id)
    made = replace(piece, from_ns=from_ns, until_ns=until_ns)
    return checked(CutList(tuple(made if p is piece else p for p in cuts.pieces)), known)


def moved(cuts: CutList, piece_ids: Sequence[str], before: str) -> CutList:
    """Pieces, in the order they have, before another one; at the end if there is none.

    Raises CutError.
    """
    going = [cuts.piece(one) for one in dict.fromkeys(piece_ids)]
    if before in piece_ids:
        return cuts
    going.sort(key=cuts.pieces.index)
    rest = [p for p in cuts.pieces if p not in going]
    place = rest.index(cuts.piece(before)) if before else len(rest)
    return CutList((*rest[:place], *going, *rest[place:]))


def copied(cuts: CutList, piece_id: str) -> CutList:
    """A piece once more, after itself. Raises CutError."""
    number = cuts.pieces.index(cuts.piece(piece_id)) + 1
    again = replace(cuts.pieces[number - 1], id=_new_id(cuts))
    return _within_limit((*cuts.pieces[:number], again, *cuts.pieces[number:]))


def removed(cuts: CutList, piece_id: str) -> CutList:
    """Without a piece; unlike what is taken out it does not stay. Raises CutError."""
    piece = cuts.piece(piece_id)
    return CutList(tuple(p for p in cuts.pieces if p is not piece))


def joined(cuts: CutList) -> CutList:
    """With pieces that go on with each other as one, which keeps the first one's id."""
    found: list[Piece] = []
    for piece in cuts.pieces:
        if found and found[-1].goes_on_with(piece):
            found[-1] = replace(found[-1], until_ns=piece.until_ns)
        else:
            found.append(piece)
    return CutList(tuple(found))


def changed_between(
    cuts: CutList, known: Known, begins: Place, ends: Place, values: Mapping[str, object]
) -> CutList:
    """With other values of all that lies between two places, in whatever order they are given.

    Raises CutError.
    """
    places = (place.now(cuts) for place in (begins, ends))
    first, last = sorted(places, key=lambda place: _order(cuts, place))
    # The later one first: it does not move the earlier one, which may lie in the same piece.
    parted = split(split(cuts, known, last), known, first)
    start = _first_at(parted, cuts.piece(first.piece), first, known)
    end = _first_at(parted, cuts.piece(last.piece), last, known)
    if start >= end:
        raise CutError("Nothing lies between these two places. Mark a stretch.", "until")
    pieces = list(parted.pieces)
    for number in range(start, end):
        pieces[number] = replace(pieces[number], **values)  # type: ignore[arg-type]
    return CutList(tuple(pieces))


def _order(cuts: CutList, place: Place) -> tuple[int, int]:
    return cuts.pieces.index(cuts.piece(place.piece)), place.at_ns


def _first_at(parted: CutList, whole: Piece, place: Place, known: Known) -> int:
    """The number of the first piece after a place at which a whole piece was split."""
    at_ns = _on_frame(whole, place.at_ns, known.fps)
    number = parted.pieces.index(parted.piece(whole.id))
    while (part := parted.pieces[number]).until_ns <= at_ns:
        number += 1
        if part.until_ns == whole.until_ns:
            break
    return number


def _on_frame(piece: Piece, at_ns: int, fps: Fraction) -> int:
    """The place of a frame nearest to a time of a piece, counted from where it begins."""
    frame_ns = NS_PER_S / fps * piece.speed
    on_frame = round(piece.from_ns + round((at_ns - piece.from_ns) / frame_ns) * frame_ns)
    left_ns = piece.until_ns - at_ns
    # Of a piece that is shorter than a frame the end that is nearer counts.
    is_end = left_ns * 2 < frame_ns and left_ns < at_ns - piece.from_ns
    return piece.until_ns if is_end else min(max(piece.from_ns, on_frame), piece.until_ns)


def _new_id(cuts: CutList) -> str:
    """An id that no piece has."""
    numbers = [int(p.id[1:]) for p in cuts.pieces if p.id[:1] == "p" and p.id[1:].isdecimal()]
    return f"p{max(numbers, default=0) + 1}"


def _within_limit(pieces: Sequence[Piece]) -> CutList:
    if len(pieces) > MOST_PIECES:
        raise CutError(f"A cut list has at most {MOST_PIECES} pieces. Join some first.", "pieces")
    return CutList(tuple(pieces))
