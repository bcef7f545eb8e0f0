"""The running order: the planned steps of a tutorial, with notes and target times; as an outline.

An outline is plain text: a line a step, what is indented below it its notes. Bullets and numbers
before a step are left out, minutes in brackets are its target time.
"""

import re
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from typing import Annotated

from annotated_types import MaxLen

from kettle_core.errors import RigError
from kettle_core.fields import Id, Text, within

MOST_STEPS = 200
MOST_TITLE, MOST_NOTES, LONGEST_S = 120, 4000, 6 * 3600
_BULLET = re.compile(r"(?:[-*+•–]|\d{1,3}[.)])\s+")
_TIME = re.compile(r"\s*[\[(]\s*(?:(\d{1,3}):([0-5]\d)|(\d{1,3})(?:[.,](\d))?\s*(min(?:utes)?|s)?)"
                   r"\s*[\])]\s*$")  # fmt: skip


@dataclass(frozen=True)
class OrderStep:
    """A step: its title, notes to read while speaking, a target time in s (0: none), and the name
    of the scene it begins with ("" for the one that is there).
    """

    id: Id
    title: Annotated[str, Text(MOST_TITLE)]
    notes: Annotated[str, MaxLen(MOST_NOTES)] = ""
    target_s: Annotated[int, within(0, LONGEST_S)] = 0
    scene: Annotated[str, MaxLen(80)] = ""


@dataclass(frozen=True)
class RunningOrder:
    """Steps in their order."""

    steps: Annotated[tuple[OrderStep, ...], MaxLen(MOST_STEPS)] = ()

    @property
    def target_s(self) -> int:
        """How long all of it is to be."""
        return sum(step.target_s for step in self.steps)

    def step(self, step_id: str) -> OrderStep:
        """A step by its id. Raises RigError."""
        for step in self.steps:
            if step.id == step_id:
                return step
        raise RigError("This step is not in the running order any more.", "step")


def read_outline(text: str, taken: Sequence[str] = ()) -> tuple[OrderStep, ...]:
    r"""Steps of an outline.

    Parameters
    ----------
    text : str
    taken : ids that the steps must not have

    Raises
    ------
    RigError
        If it has no step, too many, or one that is too long; it says which line.

    Examples
    --------
    >>> steps = read_outline("1. Title [0:30]\n- Fold it (4 min)\n    Slow on the lines.")
    >>> [(s.title, s.target_s, s.notes) for s in steps]
    [('Title', 30, ''), ('Fold it', 240, 'Slow on the lines.')]
    """
    known, found = set(taken), list[OrderStep]()
    margin = min((_indent(x) for x in text.splitlines() if x.strip()), default=0)
    for number, line in enumerate(text.expandtabs(4).splitlines(), 1):
        if not line.strip():
            continue
        if _indent(line) > margin and found:
            found[-1] = _with_note(found[-1], line.strip(), number)
            continue
        if len(found) == MOST_STEPS:
            raise RigError(
                f"A running order has at most {MOST_STEPS} steps, and line {number} would be "
                "one more. Paste a part of it, or indent what are notes.",
                "outline",
            )
        found.append(_step(line.strip(), number, known))
    if not found:
        raise RigError("The outline is empty. Type a line for each step.", "outline")
    return tuple(found)


def _indent(line: str) -> int:
    line = line.expandtabs(4)
    return len(line) - len(line.lstrip())


def _step(line: str, number: int, known: set[str]) -> OrderStep:
    title = _BULLET.sub("", line, count=1) if _BULLET.match(line) else line
    target_s = 0
    match = _TIME.search(title)
    if match and match.start() > 0:
        minutes, seconds, whole, tenth, unit = match.groups()
        if minutes is not None:
            target_s = int(minutes) * 60 + int(seconds)
        else:
            value = int(whole) * 10 + int(tenth or 0)
            target_s = value // 10 if unit == "s" else value * 6
        title = title[: match.start()]
    title = title.strip()
    if not title or len(title) > MOST_TITLE:
        raise RigError(
            f"Line {number} has no title." if not title else
            f"Line {number} is longer than {MOST_TITLE} characters. Shorten it; what is indented "
            "below a step are its notes.",
            "outline",
        )  # fmt: skip
    step_id = _unused_id(known)
    known.add(step_id)
    return OrderStep(step_id, title, target_s=min(target_s, LONGEST_S))


def _unused_id(taken: Collection[str]) -> str:
    return next(f"step-{n}" for n in range(1, len(taken) + 2) if f"step-{n}" not in taken)


def _with_note(step: OrderStep, line: str, number: int) -> OrderStep:
    notes = f"{step.notes}\n{line}".strip()
    if len(notes) > MOST_NOTES:
        raise RigError(
            f"The notes of “{step.title}” have more than {MOST_NOTES} characters at line {number}. "
            "Shorten them.",
            "outline",
        )
    return replace(step, notes=notes)


def outline_of(order: RunningOrder) -> str:
    """A running order as an outline that reads back to the same titles, times and notes.

    >>> print(outline_of(RunningOrder((OrderStep("a", "Sew", "Wax it.", 210),))), end="")
    - Sew [3:30]
        Wax it.
    """
    lines = []
    for step in order.steps:
        time = f" [{step.target_s // 60}:{step.target_s % 60:02d}]" if step.target_s else ""
        lines.append(f"- {step.title}{time}")
        lines += [f"    {line.strip()}" for line in step.notes.splitlines() if line.strip()]
    return "".join(line + "\n" for line in lines)


def with_outline(order: RunningOrder, text: str, after: bool) -> RunningOrder:
    """An outline in place of the steps, or after them. Raises RigError."""
    kept = order.steps if after else ()
    return _of((*kept, *read_outline(text, [s.id for s in order.steps])))


def with_new_step(order: RunningOrder, step: OrderStep) -> RunningOrder:
    """A step more, at the end, with an id of its own. Raises RigError if there are too many."""
    return _of((*order.steps, replace(step, id=_unused_id({s.id for s in order.steps}))))


def _of(steps: tuple[OrderStep, ...]) -> RunningOrder:
    if len(steps) > MOST_STEPS:
        raise RigError(
            f"A running order has at most {MOST_STEPS} steps; this would make {len(steps)}.",
            "outline",
        )
    return RunningOrder(steps)


def with_step(order: RunningOrder, step: OrderStep) -> RunningOrder:
    """A step changed; it is known by its id. Raises RigError."""
    order.step(step.id)
    return RunningOrder(tuple(step if s.id == step.id else s for s in order.steps))


def without_step(order: RunningOrder, step_id: str) -> RunningOrder:
    """A step less. Raises RigError."""
    order.step(step_id)
    return RunningOrder(tuple(s for s in order.steps if s.id != step_id))


def moved_step(order: RunningOrder, step_id: str, place: int) -> RunningOrder:
    """A step at another place; beyond the ends is at an end. Raises RigError."""
    step = order.step(step_id)
    others = [s for s in order.steps if s.id != step_id]
    place = min(max(place, 0), len(others))
    return RunningOrder((*others[:place], step, *others[place:]))
