"""What was changed of a take after it was recorded; what was recorded stays as it is.

Changes are pure: they take what was changed so far and give what is changed then.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Annotated

from annotated_types import Interval, MaxLen

from kettle_core.errors import CueError
from kettle_core.program.cues import (
    CloseUp,
    Cue,
    GoOn,
    Hide,
    Id,
    Mark,
    Mute,
    Pause,
    Place,
    Step,
    ToScene,
)
from kettle_core.program.replay import replay
from kettle_core.rig.rig import Rig
from kettle_core.timing.ticks import NS_PER_S

MOST_NUDGE_MS = 5000.0
MOST_CUES = 20_000
# Places of one layer that come one after the other no later than this are steps of one drag.
DRAG_STEP_NS = NS_PER_S // 2
NudgeMs = Annotated[float, Interval(ge=-MOST_NUDGE_MS, le=MOST_NUDGE_MS)]


@dataclass(frozen=True)
class Nudge:
    """A track moved by hand against the others; above 0 it is seen or heard later."""

    track: Id
    ms: NudgeMs


@dataclass(frozen=True)
class Afterwards:
    """`cues` in place of those that were recorded, None where none was changed."""

    cues: Annotated[tuple[Cue, ...], MaxLen(MOST_CUES)] | None = None
    nudges: Annotated[tuple[Nudge, ...], MaxLen(1000)] = ()

    def cues_now(self, recorded: tuple[Cue, ...]) -> tuple[Cue, ...]:
        """The cues that count."""
        return recorded if self.cues is None else self.cues

    def nudge_ms(self, track: str) -> float:
        """How much later than measured a track is laid."""
        return next((n.ms for n in self.nudges if n.track == track), 0.0)


@dataclass(frozen=True)
class Recorded:
    """What a take was recorded as: its cues, its tracks' names, its length; its rig as it is."""

    rig: Rig
    cues: tuple[Cue, ...]
    tracks: tuple[str, ...]
    length_ns: int


def cue_id(cue: Cue) -> str:
    """What a cue of a take is called; another one of the same kind, time and object has it too.

    >>> cue_id(Mark(2_500_000_000, "again"))
    'mark@2500000000'
    """
    about = _about(cue)
    return f"{cue.do}@{cue.at_ns}" + (f":{about}" if about else "")


def _about(cue: Cue) -> str:
    """What a cue is about: an input, a scene, a scene's layer, a step."""
    if isinstance(cue, Place):
        return f"{cue.scene}/{cue.layer}"
    return getattr(cue, "input", "") or getattr(cue, "scene", "") or getattr(cue, "step", "")


def movements(cues: Sequence[Cue]) -> list[tuple[Cue, ...]]:
    """Cues by their times, each alone but the steps of a layer's drag, which are one.

    >>> from kettle_core.scene.layout import Box
    >>> box = Box(0, 0, 4, 3)
    >>> drag = [Place(n * NS_PER_S // 10, "s", "a", box) for n in (0, 1, 2, 9)]
    >>> [len(steps) for steps in movements([*drag, Mark(NS_PER_S)])]
    [3, 1, 1]
    """
    found: list[list[Cue]] = []
    drags: dict[str, list[Cue]] = {}
    for cue in cues:
        about = _about(cue)
        drag = drags.get(about, []) if isinstance(cue, Place) else []
        if drag and cue.at_ns - drag[-1].at_ns <= DRAG_STEP_NS:
            drag.append(cue)
            continue
        found.append([cue])
        if isinstance(cue, Place):
            drags[about] = found[-1]
    return [tuple(steps) for steps in found]


def changes_program(before: Afterwards, after: Afterwards, was: Recorded) -> bool:
    """Whether the program looks or sounds different."""
    shown = [
        tuple(c for c in each.cues_now(was.cues) if not isinstance(c, Mark | Step))
        for each in (before, after)
    ]
    return shown[0] != shown[1] or before.nudges != after.nudges


def with_cue(now: Afterwards, was: Recorded, cue: Cue) -> Afterwards:
    """One more cue; one that is called the same is replaced, and another scene of that moment.

    Raises CueError.
    """
    _check_time(was, cue.at_ns)

    def gives_way(other: Cue) -> bool:
        scenes = isinstance(cue, ToScene) and isinstance(other, ToScene)
        return cue_id(other) == cue_id(cue) or (scenes and other.at_ns == cue.at_ns)

    others = [c for c in now.cues_now(was.cues) if not gives_way(c)]
    return _with_cues(now, was, (*others, cue))


def with_stretch(now: Afterwards, was: Recorded, begins: Cue, ends: Cue) -> Afterwards:
    """A cue at the beginning of a stretch and the one that takes it back at its end.

    Cues of the same object in between go: they would end it early. At the end it is again as it
    was there before. Raises CueError.
    """
    if ends.at_ns <= begins.at_ns:
        raise CueError("The stretch ends before it begins. Mark it anew.", "until")
    kinds = {type(begins), type(ends)}

    def within(cue: Cue) -> bool:
        same = isinstance(begins, ToScene) or _about(cue) == _about(begins)
        return type(cue) in kinds and same and begins.at_ns <= cue.at_ns <= ends.at_ns

    cues = now.cues_now(was.cues)
    kept = [c for c in cues if not within(c)]
    closes = ends.at_ns < was.length_ns and _is_needed(was.rig, cues, begins, ends)
    closing = [ends] if closes else []
    return _with_cues(now, was, (*kept, begins, *closing))


def with_close_up(
    now: Afterwards, was: Recorded, nearer: Sequence[CloseUp], until_ns: int
) -> Afterwards:
    """A close-up over a stretch, up to where it goes back; those that were there go.

    Raises CueError.
    """
    first = nearer[0]
    if until_ns <= first.at_ns:
        raise CueError("The stretch ends before it begins. Mark it anew.", "until")

    def within(cue: Cue) -> bool:
        same = isinstance(cue, CloseUp) and cue.input == first.input
        return same and first.at_ns <= cue.at_ns <= until_ns

    kept = [c for c in now.cues_now(was.cues) if not within(c)]
    ends = until_ns < was.length_ns
    back = [CloseUp(until_ns, first.input, None, first.length_ms)] if ends else []
    return _with_cues(now, was, (*kept, *nearer, *back))


def _is_needed(rig: Rig, cues: tuple[Cue, ...], begins: Cue, ends: Cue) -> bool:
    """Whether what begins was not so at the end of the stretch already."""
    if isinstance(begins, ToScene | Place):
        return True
    state = replay(rig, cues).state_at(ends.at_ns)
    return (_about(begins) in state.hidden | state.muted) != isinstance(begins, Hide | Mute)


def without_cue(now: Afterwards, was: Recorded, called: str) -> Afterwards:
    """Without a cue, or the drag that begins with it. Raises CueError where it is gone, or may
    not go.
    """
    found = _movement(now, was, called)
    if isinstance(found[0], Pause | GoOn):
        raise CueError("A pause stays: most of it was not written.", "cue")
    return _with_cues(now, was, _but(now, was, found))


def moved_cue(now: Afterwards, was: Recorded, called: str, at_ns: int) -> Afterwards:
    """With a cue, or the drag that begins with it, at another time; a stretch keeps its length.

    Raises CueError.
    """
    found = _movement(now, was, called)
    if isinstance(found[0], Pause | GoOn):
        raise CueError("A pause stays where it was recorded.", "cue")
    _check_time(was, at_ns)
    later_ns = at_ns - found[0].at_ns
    # Of a drag that would go on after the take's end only where it goes to counts there.
    moved = {(m := _later(cue, later_ns, was.length_ns)).at_ns: m for cue in found}
    called_now = {cue_id(cue) for cue in moved.values()}
    others = [c for c in _but(now, was, found) if cue_id(c) not in called_now]
    return _with_cues(now, was, (*others, *moved.values()))


def _later(cue: Cue, by_ns: int, length_ns: int) -> Cue:
    at_ns = min(length_ns, cue.at_ns + by_ns)
    if isinstance(cue, Mark) and cue.until_ns is not None:
        return replace(cue, at_ns=at_ns, until_ns=min(length_ns, cue.until_ns + by_ns))
    return replace(cue, at_ns=at_ns)


def named_mark(now: Afterwards, was: Recorded, called: str, text: str) -> Afterwards:
    """With a mark that has another word. Raises CueError."""
    found = _cue(now, was, called)
    if not isinstance(found, Mark):
        raise CueError("Only marks have a name.", "cue")
    named = replace(found, text=text)
    cues = tuple(named if c is found else c for c in now.cues_now(was.cues))
    return _with_cues(now, was, cues)


def nudged(now: Afterwards, was: Recorded, track: str, ms: float) -> Afterwards:
    """With a track moved by so many ms against what was measured; 0 puts it back.

    Raises CueError.
    """
    if track not in was.tracks:
        raise CueError("This track is not in the take. Reload the page.", "track")
    if not -MOST_NUDGE_MS <= ms <= MOST_NUDGE_MS:
        raise CueError(
            f"A track is moved by at most {MOST_NUDGE_MS:g} ms either way, got {ms:g}.", "ms"
        )
    others = tuple(n for n in now.nudges if n.track != track)
    mine = (Nudge(track, float(ms)),) if ms else ()
    return replace(now, nudges=(*others, *mine))


def _cue(now: Afterwards, was: Recorded, called: str) -> Cue:
    found = next((c for c in now.cues_now(was.cues) if cue_id(c) == called), None)
    if found is None:
        raise CueError("This is gone from the take. Reload the page.", "cue")
    return found


def _movement(now: Afterwards, was: Recorded, called: str) -> tuple[Cue, ...]:
    """The cue that is called so, with the steps of the drag that it begins."""
    led = (m for m in movements(now.cues_now(was.cues)) if cue_id(m[0]) == called)
    return next(led, None) or (_cue(now, was, called),)


def _but(now: Afterwards, was: Recorded, these: tuple[Cue, ...]) -> tuple[Cue, ...]:
    """All cues but these."""
    return tuple(c for c in now.cues_now(was.cues) if all(c is not cue for cue in these))


def _check_time(was: Recorded, at_ns: int) -> None:
    if not 0 <= at_ns <= was.length_ns:
        raise CueError(
            f"{at_ns / 1e9:.3f} s lies outside of the take, which is "
            f"{was.length_ns / 1e9:.3f} s long.",
            "at",
        )


def _with_cues(now: Afterwards, was: Recorded, cues: tuple[Cue, ...]) -> Afterwards:
    """Cues in the order of their times, if all of them can be followed."""
    if len(cues) > MOST_CUES:
        raise CueError(f"A take has at most {MOST_CUES} cues. Take some out first.", "cue")
    ordered = tuple(sorted(cues, key=lambda cue: cue.at_ns))
    news = set(replay(was.rig, ordered).left_out) - set(replay(was.rig, was.cues).left_out)
    if news:
        raise CueError(min(news), "cue")
    return replace(now, cues=None if ordered == was.cues else ordered)
