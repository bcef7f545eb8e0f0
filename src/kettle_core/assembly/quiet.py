"""Quiet stretches of an assembly: taken out down to a rest, or made faster, all at once."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from kettle_core.assembly.cut_changes import changed_between
from kettle_core.assembly.cut_list import LEAST_PERCENT, MOST_PERCENT, CutList, Known, Piece, Place
from kettle_core.errors import CutError
from kettle_core.timing.ticks import NS_PER_S

# From and until in take time, half-open.
Stretch = tuple[int, int]
MOST_REST_NS = 10 * NS_PER_S


@dataclass(frozen=True)
class Shortening:
    """What becomes of quiet stretches: `percent` as in `Piece`, 0 takes them out.

    Of each one `rest_ns` stay as they are, half before and half after what is changed.
    """

    rest_ns: int = 300_000_000
    percent: int = 0
    stretched: bool = False


def shortened(
    cuts: CutList,
    known: Known,
    quiet: Mapping[str, Sequence[Stretch]],
    kept: Mapping[str, Sequence[Stretch]],
    how: Shortening,
) -> CutList:
    """A cut list whose quiet stretches are shorter.

    Parameters
    ----------
    quiet : where nobody speaks, by takes' UUIDs
    kept : what nothing is changed in, even where it is quiet: marks called "keep"
    how : what becomes of them

    Raises
    ------
    CutError
        If the rest or the speed can't be.

    Notes
    -----
    Only what runs as it was recorded is changed; what was taken out or made faster by hand stays.
    """
    if not 0 <= how.rest_ns <= MOST_REST_NS:
        raise CutError(f"A pause is left with 0 to {MOST_REST_NS // 10**6} ms.", "rest")
    values: dict[str, object] = {"out": True}
    if how.percent:
        values = {"percent": how.percent, "sound": "stretched" if how.stretched else "off"}
        if not LEAST_PERCENT <= how.percent <= MOST_PERCENT:
            raise CutError(f"A speed is 0.1 to 64 ×, got {how.percent / 100:g}.", "percent")
    for piece in cuts.pieces:
        if piece.out or piece.percent != 100:
            continue
        # The last one first: what is left of the piece before it keeps its id.
        for first, until in reversed(_parts(piece, quiet, kept, known, how)):
            places = Place(piece.id, first), Place(piece.id, until)
            cuts = changed_between(cuts, known, *places, values)
    return cuts


def _parts(
    piece: Piece,
    quiet: Mapping[str, Sequence[Stretch]],
    kept: Mapping[str, Sequence[Stretch]],
    known: Known,
    how: Shortening,
) -> list[Stretch]:
    """What is changed of a piece, rising: of each quiet stretch its middle, on whole frames."""
    frame_ns = NS_PER_S / known.fps
    found = []
    for first, until in sorted(quiet.get(piece.take, ())):
        # Of a pause that a cut has divided the rest stays on the side of the voice.
        a = max(first + how.rest_ns // 2, piece.from_ns)
        b = min(until - how.rest_ns // 2, piece.until_ns)
        touched = any(x < b and y > a for x, y in kept.get(piece.take, ()))
        if b - a >= 2 * frame_ns and not touched:
            found.append((a, b))
    return found
