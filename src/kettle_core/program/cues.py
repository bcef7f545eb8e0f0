"""Cues: what was changed while a take was recorded, kept as data that can still be changed.

Every cue has `at_ns` in record time: ns since the take began, pauses included.
"""

from dataclasses import dataclass
from typing import Annotated, Literal

from annotated_types import Ge, Gt, Interval, Le, MaxLen, MinLen

from kettle_core.scene.layout import Box
from kettle_core.scene.scene import ChangeOver

LONGEST_CLOSE_UP_MS = 5000
MOST_WORDS = 200

AtNs = Annotated[int, Ge(0), Le(2**62)]
Id = Annotated[str, MinLen(1), MaxLen(40)]
Words = Annotated[str, MaxLen(MOST_WORDS)]
Degrees = Annotated[float, Gt(-3601), Le(3600)]
Millis = Annotated[int, Interval(ge=0, le=LONGEST_CLOSE_UP_MS)]


@dataclass(frozen=True)
class ToScene:
    """A scene comes in, by its own change-over or by this one."""

    at_ns: AtNs
    scene: Id
    change_over: ChangeOver | None = None
    do: Literal["scene"] = "scene"


@dataclass(frozen=True)
class Show:
    """An input that was hidden is seen again."""

    at_ns: AtNs
    input: Id
    do: Literal["show"] = "show"


@dataclass(frozen=True)
class Hide:
    """An input is not seen in any scene until it is shown again."""

    at_ns: AtNs
    input: Id
    do: Literal["hide"] = "hide"


@dataclass(frozen=True)
class Mute:
    """An input is not heard in any scene until it is unmuted."""

    at_ns: AtNs
    input: Id
    do: Literal["mute"] = "mute"


@dataclass(frozen=True)
class Unmute:
    """An input that was muted is heard again."""

    at_ns: AtNs
    input: Id
    do: Literal["unmute"] = "unmute"


@dataclass(frozen=True)
class Place:
    """A layer of a scene lies elsewhere, in px of the rig's frame; a spot it sits on goes along."""

    at_ns: AtNs
    scene: Id
    layer: Id
    box: Box
    turn: Degrees = 0.0
    do: Literal["place"] = "place"


@dataclass(frozen=True)
class CloseUp:
    """An input's layers show a part of its picture, in that picture's px; None: all again."""

    at_ns: AtNs
    input: Id
    part: Box | None
    length_ms: Millis = 400
    do: Literal["close-up"] = "close-up"


@dataclass(frozen=True)
class Mark:
    """A place in a take, with a word or two, or a stretch of it if it has an end.

    A later one of the same time takes its place.
    """

    at_ns: AtNs
    text: Words = ""
    until_ns: AtNs | None = None
    do: Literal["mark"] = "mark"


@dataclass(frozen=True)
class Step:
    """A step of the running order begins."""

    at_ns: AtNs
    step: Words
    do: Literal["step"] = "step"


@dataclass(frozen=True)
class Pause:
    """What follows is left out of take time, until it goes on."""

    at_ns: AtNs
    do: Literal["pause"] = "pause"


@dataclass(frozen=True)
class GoOn:
    """A pause ends."""

    at_ns: AtNs
    do: Literal["go-on"] = "go-on"


Cue = ToScene | Show | Hide | Mute | Unmute | Place | CloseUp | Mark | Step | Pause | GoOn
