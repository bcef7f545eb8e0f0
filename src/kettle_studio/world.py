"""What is going on in the studio at a moment: a pure function of world time in seconds."""

import math
from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from kettle_studio import script

GLOW_S = 0.36
GLOW_STEPS = 12
MOVE_S = 0.9
SIDE_BAR_PX = 360
FIELD_BOX = (32, 214, 296, 64)
FIELD_STEP_PX = 92
PAGE_SIZE = (240, 340)
SHEET_ORIGIN = (560, 196)
PAGE_STEP = (288, 400)
POINTER_HOME = (1180, 1000)
EVENTS_HZ = 60


@dataclass(frozen=True)
class Desktop:
    """Everything that shows on the display; equal values look the same.

    `glow` is (kind, index, step): what lights up after a click and how much of it is left.
    """

    sheet_no: int
    placed: int
    pointer: tuple[int, int]
    glow: tuple[str, int, int] | None
    typed: tuple[str, ...]


def page_corner(column: int, row: int) -> tuple[int, int]:
    """Left and top of a page's place on the sheet, in display px."""
    return SHEET_ORIGIN[0] + column * PAGE_STEP[0], SHEET_ORIGIN[1] + row * PAGE_STEP[1]


def field_corner(index: int) -> tuple[int, int]:
    """Left and top of a field of the side bar, in display px."""
    return FIELD_BOX[0], FIELD_BOX[1] + index * FIELD_STEP_PX


def _clicks() -> list[tuple[float, str, int, tuple[int, int]]]:
    clicks = []
    for index, step in enumerate(script.STEPS):
        left, top = page_corner(step.column, step.row)
        clicks.append((step.second, "page", index, (left + 150, top + 220)))
    for second, field in script.FIELD_CLICKS:
        left, top = field_corner(field)
        clicks.append((second, "field", field, (left + 200, top + 40)))
    return sorted(clicks)


CLICKS = _clicks()
_CLICK_SECONDS = [click[0] for click in CLICKS]


def pointer_at(second: float) -> tuple[int, int]:
    """Pointer in display px at a second of the lesson: it eases to a place before the click."""
    index = bisect_right(_CLICK_SECONDS, second)
    before = CLICKS[index - 1][3] if index else POINTER_HOME
    if index == len(CLICKS):
        target, arrives = POINTER_HOME, float(script.LOOP_S)
    else:
        target, arrives = CLICKS[index][3], CLICKS[index][0] - 0.05
    share = min(max(1 - (arrives - second) / MOVE_S, 0.0), 1.0)
    eased = share * share * (3 - 2 * share)
    x = before[0] + (target[0] - before[0]) * eased
    y = before[1] + (target[1] - before[1]) * eased - 40 * math.sin(math.pi * eased)
    return round(x), round(y)


def desktop_at(world_s: float) -> Desktop:
    """The display's state at a world time."""
    loop, second = divmod(world_s, script.LOOP_S)
    placed = sum(1 for step in script.STEPS if step.second <= second)
    index = bisect_right(_CLICK_SECONDS, second)
    glow = None
    if index and second - CLICKS[index - 1][0] < GLOW_S:
        at, kind, which, _ = CLICKS[index - 1]
        left = math.ceil((1 - (second - at) / GLOW_S) * GLOW_STEPS)
        glow = (kind, which, left)
    typed = ["12 mm", "octavo", "4 mm", "0.2 mm"]
    for start, text, field in script.TYPED:
        if second >= start:
            typed[field] = text[: 1 + int((second - start) / script.TYPING_STEP_S)]
    return Desktop(int(loop) % 6 + 1, placed, pointer_at(second), glow, tuple(typed))


def desktop_events(from_s: float, to_s: float) -> Iterator[tuple[float, str, dict[str, Any]]]:
    """Pointer moves, clicks and keys within [from_s, to_s), in order of time."""
    found: list[tuple[float, str, dict[str, Any]]] = []
    for step in range(math.ceil(from_s * EVENTS_HZ), math.ceil(to_s * EVENTS_HZ)):
        at = step / EVENTS_HZ
        here = pointer_at(at % script.LOOP_S)
        if here != pointer_at((at - 1 / EVENTS_HZ) % script.LOOP_S):
            found.append((at, "pointer", {"x": here[0], "y": here[1]}))
    for loop in range(int(from_s // script.LOOP_S), int(to_s // script.LOOP_S) + 1):
        base = loop * script.LOOP_S
        for second, _, _, (x, y) in CLICKS:
            found.append((base + second, "click", {"x": x, "y": y, "button": "left"}))
        for start, text, _ in script.TYPED:
            for place, key in enumerate(text):
                at = base + start + place * script.TYPING_STEP_S
                found.append((at, "key", {"key": key, "modifiers": []}))
    return iter(sorted((f for f in found if from_s <= f[0] < to_s), key=lambda f: f[0]))


def knock_at(world_s: float) -> tuple[float, float]:
    """The bone folder at a world time: its height (0 on the desk, 1 raised) and the glint.

    The glint is 1 at the knock and fades within a third of a second.
    """
    second = world_s % script.LOOP_S
    index = bisect_right(script.KNOCKS_S, second)
    glint = math.exp(-(second - script.KNOCKS_S[index - 1]) / 0.08) if index else 0.0
    height = 0.0
    if index < len(script.KNOCKS_S):
        ahead = script.KNOCKS_S[index] - second
        if ahead < 0.12:
            height = ahead / 0.12
        elif ahead < 0.7:
            height = (0.7 - ahead) / 0.58
    return height, glint if glint > 0.02 else 0.0


def message_at(world_s: float) -> int | None:
    """Number of the message that is popped up, or None."""
    second = world_s % script.LOOP_S
    for number, (start, *_) in enumerate(script.MESSAGES):
        if start <= second < start + script.MESSAGE_SHOWN_S:
            return number
    return None


def busy_pointer_at(world_s: float) -> tuple[int, int]:
    """Pointer on the second display: it rests, and goes to another place every 16 s."""
    places = ((900, 520), (1900, 300), (700, 900), (2000, 980))
    leg, second = divmod(world_s % script.LOOP_S, 16)
    start, end = places[int(leg) % 4], places[(int(leg) + 1) % 4]
    share = min(max((second - 14.5) / 1.5, 0.0), 1.0)
    eased = share * share * (3 - 2 * share)
    x, y = (round(a + (b - a) * eased) for a, b in zip(start, end, strict=True))
    return x, y


TABLET_BUTTON = (540, 1560)
TOUCH_S = 0.3


def station_at(world_s: float) -> tuple[int, tuple[int, int] | None]:
    """The sewing station the tablet shows, from 1, and where a finger touches it."""
    second = world_s % script.LOOP_S
    index = bisect_right(script.TOUCHES_S, second)
    touched = index and second - script.TOUCHES_S[index - 1] < TOUCH_S
    return index % script.STATIONS + 1, TABLET_BUTTON if touched else None


def touch_events(from_s: float, to_s: float) -> Iterator[tuple[float, str, dict[str, Any]]]:
    """Touches within [from_s, to_s), in order of time."""
    x, y = TABLET_BUTTON
    for loop in range(int(from_s // script.LOOP_S), int(to_s // script.LOOP_S) + 1):
        for second in script.TOUCHES_S:
            at = loop * script.LOOP_S + second
            if from_s <= at < to_s:
                yield at, "touch", {"x": x, "y": y, "finger": 1}


def hand_at(world_s: float) -> tuple[float, float]:
    """The hand over the bench, 0 to 1 along and down the fold it rubs."""
    along = 0.5 - 0.5 * math.cos(world_s * 1.3)
    down = 0.5 - 0.5 * math.cos(world_s * 0.37)
    return along, down


def head_at(world_s: float) -> tuple[float, float]:
    """How far the head is from its middle, in webcam px."""
    x = 9 * math.sin(world_s * 0.9) + 4 * math.sin(world_s * 2.3 + 1)
    y = 5 * math.sin(world_s * 1.7 + 0.6)
    return x, y


def blink_at(world_s: float) -> bool:
    """Whether the eyes are closed."""
    return world_s % 3.7 < 0.13 or world_s % 11.3 < 0.1
