"""The cut list: of which pieces of which takes and cards a tutorial is made, as one value.

What was taken out stays in the list, in its place: it takes no time, and is taken back at any time.
Places are those of takes, so that a change that was decided on an older list still means the same.
"""

from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Annotated, Literal

from annotated_types import Interval, MaxLen, MinLen

from kettle_core.assembly.beds import BEDS
from kettle_core.assembly.retold import Retold
from kettle_core.errors import CutError
from kettle_core.fields import DIGEST_PATTERN, Matching
from kettle_core.rig.rig import Card
from kettle_core.timing.ticks import NS_PER_S
from kettle_core.timing.time_map import Source

MOST_PIECES, MOST_NS = 10_000, 10**15
LEAST_PERCENT, MOST_PERCENT = 10, 6400
MOST_CARDS, MOST_CARD_NS = 500, 600 * NS_PER_S
MOST_RETOLD, MOST_FILES = 1000, 100
MOST_FADE_MS = 10_000
Id = Annotated[str, MinLen(1), MaxLen(80)]
TakeNs = Annotated[int, Interval(ge=0, le=MOST_NS)]
Percent = Annotated[int, Interval(ge=LEAST_PERCENT, le=MOST_PERCENT)]


FadeMs = Annotated[int, Interval(ge=0, le=MOST_FADE_MS)]


@dataclass(frozen=True)
class Piece:
    """A part of a take, half-open in take time; of a card or a file, if `take` is its id.

    At another speed than 100 its `sound` is left out, or stretched so that it keeps its pitch.
    One that is `out` takes no time. It comes out of black and goes into it within its fades.
    """

    id: Id
    take: Id
    from_ns: TakeNs
    until_ns: TakeNs
    out: bool = False
    percent: Percent = 100
    sound: Literal["off", "stretched"] = "off"
    fade_in_ms: FadeMs = 0
    fade_out_ms: FadeMs = 0

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
        if self.fade_out_ms or other.fade_in_ms:
            return False
        return other == replace(
            self,
            id=other.id,
            from_ns=self.until_ns,
            until_ns=other.until_ns,
            fade_in_ms=0,
            fade_out_ms=other.fade_out_ms,
        )


@dataclass(frozen=True)
class TitleCard:
    """A card that pieces can be of: a title, a step, an end."""

    id: Id
    card: Card


@dataclass(frozen=True)
class AddedFile:
    """A video or sound file that pieces can be of, or music; kept by its SHA-256."""

    id: Id
    name: Annotated[str, MinLen(1), MaxLen(200)]
    digest: Annotated[str, Matching(DIGEST_PATTERN, "the SHA-256 of the file")]
    length_ns: Annotated[int, Interval(ge=1, le=MOST_NS)]
    has_picture: bool = True


@dataclass(frozen=True)
class Music:
    """One of our beds, or a file by its id, under the whole; lowered while somebody speaks."""

    bed: Id
    gain_db: Annotated[float, Interval(ge=-40, le=6)] = -6.0
    fade_ms: FadeMs = 2000


@dataclass(frozen=True)
class CutList:
    """Pieces in the order in which they are seen.

    The whole comes out of black and goes back into it, with its sound, within the fades.
    """

    pieces: Annotated[tuple[Piece, ...], MaxLen(MOST_PIECES)] = ()
    cards: Annotated[tuple[TitleCard, ...], MaxLen(MOST_CARDS)] = ()
    files: Annotated[tuple[AddedFile, ...], MaxLen(MOST_FILES)] = ()
    fade_in_ms: FadeMs = 0
    fade_out_ms: FadeMs = 0
    music: Music | None = None
    retold: Annotated[tuple[Retold, ...], MaxLen(MOST_RETOLD)] = ()

    @property
    def shown(self) -> tuple[Piece, ...]:
        """Those that take time."""
        return tuple(p for p in self.pieces if not p.out)

    @property
    def length_ns(self) -> Fraction:
        """How long the program is, but for what is rounded to its frames."""
        return sum((p.length_ns for p in self.shown), Fraction(0))

    def card(self, card_id: str) -> Card | None:
        """A card by its id; None if there is none, as of a take."""
        return next((c.card for c in self.cards if c.id == card_id), None)

    def file(self, file_id: str) -> AddedFile | None:
        """A file by its id; None if there is none."""
        return next((f for f in self.files if f.id == file_id), None)

    def retold_of(self, take: str) -> Retold:
        """What is told of a take otherwise; nothing of most."""
        return next((r for r in self.retold if r.take == take), Retold(take))

    def source(self, piece: Piece) -> Source:
        """What a piece is of."""
        if self.card(piece.take):
            return Source("card", piece.take)
        return Source("file" if self.file(piece.take) else "take", piece.take)

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

    def length_ns(self, cuts: CutList, take: str) -> int | None:
        """How long a take or file is, or how long a card may be; None if none is there."""
        file = cuts.file(take)
        if file:
            return file.length_ns
        return MOST_CARD_NS if cuts.card(take) else self.takes.get(take)


def checked(cuts: CutList, known: Known) -> CutList:
    """The list itself, if all that it names is there. Raises CutError."""
    if len({card.id for card in cuts.cards}) < len(cuts.cards):
        raise CutError("Two cards have the same id.", "cards")
    if len({file.id for file in cuts.files}) < len(cuts.files):
        raise CutError("Two files have the same id.", "files")
    if cuts.music and cuts.music.bed not in BEDS and cuts.file(cuts.music.bed) is None:
        raise CutError(f"There is no bed and no file “{cuts.music.bed}”.", "music")
    ids = set()
    for number, piece in enumerate(cuts.pieces, 1):
        words = f"Piece {number}"
        if piece.id in ids:
            raise CutError(f"{words} is called “{piece.id}” like another one.", "id")
        ids.add(piece.id)
        length_ns = known.length_ns(cuts, piece.take)
        if length_ns is None:
            raise CutError(f"{words} is of a take that is not in this tutorial.", "take")
        if not 0 <= piece.from_ns < piece.until_ns <= length_ns:
            raise CutError(
                f"{words} goes from {piece.from_ns / 1e9:.3f} to {piece.until_ns / 1e9:.3f} s of a "
                f"take of {length_ns / 1e9:.3f} s. A piece begins before it ends, within its take.",
                "until_ns",
            )
    return cuts
