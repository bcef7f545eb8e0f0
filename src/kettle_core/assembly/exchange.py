"""A step of one take exchanged for another take's reading of it."""

from collections.abc import Mapping
from dataclasses import replace

from kettle_core.assembly.chapters import Steps
from kettle_core.assembly.cut_changes import new_id, parted
from kettle_core.assembly.cut_list import CutList, Known, Piece, Place, checked
from kettle_core.errors import CutError

NO_STEP = "No step is on here. Go to one, or name one as a chapter."


def exchanged(
    cuts: CutList, known: Known, steps: Mapping[str, Steps], place: Place, other: str
) -> tuple[CutList, str]:
    """The step at a place as another take has it; gives what it is called too.

    All that is of this step of this take goes, also what was taken out of it; the other take's
    comes in its stead, whole.

    Parameters
    ----------
    steps : when steps of takes begin, in take time, rising
    other : the other take's UUID

    Raises
    ------
    CutError
        If no step is on at the place, or the other take has none that is called the same.
    """
    place = place.now(cuts)
    take = cuts.piece(place.piece).take
    title, from_ns, until_ns = _step_at(steps.get(take, ()), place.at_ns, known.takes.get(take, 0))
    found = _step_called(steps.get(other, ()), title, known.takes.get(other, 0))
    if found is None:
        raise CutError(f"This take has no step “{title}”. Choose another one.", "take")
    if (other, *found) == (take, from_ns, until_ns):
        raise CutError(f"This is this take's reading of “{title}”. Choose another take.", "take")
    apart = _parted(_parted(cuts, take, from_ns), take, until_ns)
    going = [p for p in apart.pieces if p.take == take and from_ns <= p.from_ns < until_ns]
    if not going:
        raise CutError(NO_STEP, "place")
    at = apart.pieces.index(going[0])
    fresh = Piece(new_id(apart), other, *found)
    kept = [p for p in apart.pieces if p not in going]
    return checked(replace(apart, pieces=(*kept[:at], fresh, *kept[at:])), known), title


def _step_at(steps: Steps, at_ns: int, end_ns: int) -> tuple[str, int, int]:
    """The step that is on: what it is called, from and until."""
    on = [number for number, (begins_ns, _) in enumerate(steps) if begins_ns <= at_ns]
    if not on:
        raise CutError(NO_STEP, "place")
    begins_ns, title = steps[on[-1]]
    return title, begins_ns, _end_of(steps, on[-1], end_ns)


def _step_called(steps: Steps, title: str, end_ns: int) -> tuple[int, int] | None:
    """The last reading of a step: what was done again is better."""
    wanted = title.strip().casefold()
    for number in reversed(range(len(steps))):
        if steps[number][1].strip().casefold() == wanted:
            return steps[number][0], _end_of(steps, number, end_ns)
    return None


def _end_of(steps: Steps, number: int, end_ns: int) -> int:
    return steps[number + 1][0] if number + 1 < len(steps) else end_ns


def _parted(cuts: CutList, take: str, at_ns: int) -> CutList:
    """With the pieces of a take divided at a time, exactly: what goes is the step and no more."""
    for piece in cuts.pieces:
        if piece.take == take and piece.from_ns < at_ns < piece.until_ns:
            cuts = parted(cuts, piece, at_ns)
    return cuts
