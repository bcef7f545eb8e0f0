"""A part of a program as a cut list of its own."""

from dataclasses import replace
from fractions import Fraction

from kettle_core.assembly.cut_list import CutList, laid
from kettle_core.timing.time_map import to_ns


def excerpt(cuts: CutList, fps: Fraction, from_ns: int, until_ns: int) -> CutList:
    """What lies between two program times, 0 for the end; what is whole stays as it is.

    A fade stays with the end of the program that it belongs to.
    """
    rows = [one for one in laid(cuts, fps) if not one.piece.out and one.end_ns > one.start_ns]
    end_ns = rows[-1].end_ns if rows else Fraction(0)
    last_ns = Fraction(until_ns) if until_ns and until_ns < end_ns else end_ns
    if not from_ns and last_ns == end_ns:
        return cuts
    pieces = []
    for one in rows:
        begins, ends = max(one.start_ns, Fraction(from_ns)), min(one.end_ns, last_ns)
        if begins >= ends:
            continue
        speed = one.piece.speed
        first = to_ns(one.from_ns + (begins - one.start_ns) * speed)
        until = to_ns(one.from_ns + (ends - one.start_ns) * speed)
        # What rounds beyond its piece stays within it, unless nothing were left.
        until = max(first + 1, min(until, one.piece.until_ns))
        pieces.append(
            replace(
                one.piece,
                from_ns=first,
                until_ns=until,
                fade_in_ms=one.piece.fade_in_ms if begins == one.start_ns else 0,
                fade_out_ms=one.piece.fade_out_ms if ends == one.end_ns else 0,
            )
        )
    return replace(
        cuts,
        pieces=tuple(pieces),
        fade_in_ms=0 if from_ns else cuts.fade_in_ms,
        fade_out_ms=0 if last_ns < end_ns else cuts.fade_out_ms,
    )
