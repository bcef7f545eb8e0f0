"""A part of a program as a cut list of its own."""

from dataclasses import replace
from fractions import Fraction

from kettle_core.assembly.cut_list import CutList, Piece
from kettle_core.assembly.laid import Laid, laid
from kettle_core.timing.time_map import to_ns


def excerpt(cuts: CutList, fps: Fraction, from_ns: int, until_ns: int) -> CutList:
    """What lies between two program times, 0 for the end; what is whole stays as it is.

    A fade stays with the end of the program that it belongs to.
    """
    rows = [one for one in laid(cuts, fps) if one.is_seen]
    end_ns = rows[-1].end_ns if rows else Fraction(0)
    last_ns = Fraction(until_ns) if until_ns and until_ns < end_ns else end_ns
    if not from_ns and last_ns == end_ns:
        return cuts
    pieces: list[Piece] = []
    for one in rows:
        begins, ends = max(one.start_ns, Fraction(from_ns)), min(one.end_ns, last_ns)
        if begins < ends:
            pieces.append(_within(one, begins, ends, is_first=not pieces))
    return replace(
        cuts,
        pieces=tuple(pieces),
        fade_in_ms=0 if from_ns else cuts.fade_in_ms,
        fade_out_ms=0 if last_ns < end_ns else cuts.fade_out_ms,
    )


def _within(one: Laid, begins: Fraction, ends: Fraction, is_first: bool) -> Piece:
    """What of a piece lies between two program times; an end that stays is as it was."""
    piece, changed = one.piece, one.piece
    # What the first one went on from is not there any more.
    if is_first:
        changed = replace(changed, from_ns=to_ns(one.take_ns(begins)))
    if begins > one.start_ns:
        changed = replace(changed, fade_in_ms=0)
    if ends < one.end_ns:
        # What rounds beyond its piece stays within it, unless nothing were left.
        until = max(changed.from_ns + 1, min(to_ns(one.take_ns(ends)), piece.until_ns))
        changed = replace(changed, until_ns=until, fade_out_ms=0)
    return changed
