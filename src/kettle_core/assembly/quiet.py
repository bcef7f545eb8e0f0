"""Quiet stretches of an assembly: taken out down to a rest, or made faster, all at once."""

from bisect import bisect_right
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from math import ceil

from kettle_core.assembly.cut_changes import new_ids, on_frame, within_limit
from kettle_core.assembly.cut_list import LEAST_PERCENT, MOST_PERCENT, CutList, Known, Piece
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
    rising = {take: sorted(found) for take, found in quiet.items()}
    pieces: list[Piece] = []
    ids = new_ids(cuts)
    for piece in cuts.pieces:
        parts: list[Stretch] = []
        if not piece.out and piece.percent == 100:
            found = rising.get(piece.take, [])
            parts = list(_parts(piece, found, kept.get(piece.take, ()), known.fps, how.rest_ns))
        pieces += _divided(piece, parts, values, ids)
    return within_limit(cuts, pieces)


def _parts(
    piece: Piece, quiet: list[Stretch], kept: Sequence[Stretch], fps: Fraction, rest_ns: int
) -> Iterator[Stretch]:
    """What is changed of a piece, rising: of each quiet stretch its middle, on whole frames."""
    least_ns = ceil(2 * NS_PER_S / fps)
    begin = bisect_right(quiet, piece.from_ns, key=lambda stretch: stretch[1])
    for first, until in quiet[begin:]:
        if first >= piece.until_ns:
            return
        # Of a pause that a cut has divided the rest stays on the side of the voice.
        a = max(first + rest_ns // 2, piece.from_ns)
        b = min(until - rest_ns // 2, piece.until_ns)
        touched = any(x < b and y > a for x, y in kept)
        if b - a >= least_ns and not touched:
            a, b = on_frame(piece, a, fps), on_frame(piece, b, fps)
            if a < b:
                yield a, b


def _divided(
    piece: Piece, parts: Sequence[Stretch], values: Mapping[str, object], ids: Iterator[str]
) -> list[Piece]:
    """A piece with parts of it changed, and what is between them; the first one keeps its id."""
    if not parts:
        return [piece]
    rows: list[tuple[int, int, Mapping[str, object]]] = []
    at_ns = piece.from_ns
    for first, until in parts:
        rows += [(at_ns, first, {}), (first, until, values)]
        at_ns = until
    rows.append((at_ns, piece.until_ns, {}))
    found = [
        replace(piece, from_ns=a, until_ns=b, fade_in_ms=0, fade_out_ms=0, **changed)  # type: ignore[arg-type]
        for a, b, changed in rows
        if a < b
    ]
    named = [found[0], *(replace(part, id=next(ids)) for part in found[1:])]
    named[0] = replace(named[0], fade_in_ms=piece.fade_in_ms)
    named[-1] = replace(named[-1], fade_out_ms=piece.fade_out_ms)
    return named
