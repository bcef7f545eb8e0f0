"""Typed access to plain data that comes from outside; errors name the field's path."""

import re
from collections.abc import Mapping
from fractions import Fraction
from typing import Any

from kettle_core.errors import RigError
from kettle_core.scene.layout import Box

NAME_PATTERN = re.compile(r"[a-z][a-z0-9-]{0,39}")
STILL_PATTERN = re.compile(r"[0-9a-f]{64}")
COLOUR_PATTERN = re.compile(r"#[0-9a-f]{6}")
RATE_PATTERN = re.compile(r"\d{1,7}(/\d{1,7})?")
MAX_FPS = 240
FARTHEST_PX = 16_000


class Reader:
    """Typed access to plain data that knows the path it stands at."""

    def __init__(self, data: Any, path: str) -> None:
        if not isinstance(data, Mapping):
            raise RigError(f"{path or 'The rig'} should be an object, got {data!r:.60}.", path)
        self._data = data
        self._path = path

    def _at(self, name: str) -> str:
        return f"{self._path}.{name}" if self._path else name

    def wrong(self, name: str, expected: str, got: object) -> RigError:
        """The error for a field that is not what was expected."""
        return RigError(f"{self._at(name)} should be {expected}, got {got!r:.60}.", self._at(name))

    def value(self, name: str) -> Any:
        """What stands under a name. This and the other readers raise RigError."""
        if name not in self._data:
            raise RigError(f"{self._at(name)} is missing from the rig.", self._at(name))
        return self._data[name]

    def text(self, name: str, most: int = 80) -> str:
        """A text that is not blank."""
        got = self.value(name)
        if not isinstance(got, str) or not 0 < len(got.strip()) <= most:
            raise self.wrong(name, f"a text of 1 to {most} characters", got)
        return got.strip()

    def matching(self, name: str, pattern: re.Pattern[str], expected: str) -> str:
        """A text that matches a pattern."""
        got = self.value(name)
        if not isinstance(got, str) or not pattern.fullmatch(got):
            raise self.wrong(name, expected, got)
        return got

    def key(self, name: str) -> str:
        """An id."""
        return self.matching(name, NAME_PATTERN, "a-z, 0-9 and -, 1 to 40 characters")

    def choice(self, name: str, choices: tuple[str, ...], expected: str = "one of ") -> str:
        """One of several words."""
        got = self.value(name)
        if got not in choices:
            raise self.wrong(name, expected + ", ".join(choices), got)
        return str(got)

    def number(self, name: str, low: int, high: int) -> int:
        """A whole number within limits."""
        got = self.value(name)
        if not isinstance(got, int) or isinstance(got, bool) or not low <= got <= high:
            raise self.wrong(name, f"a whole number from {low} to {high}", got)
        return got

    def even(self, name: str, low: int, high: int) -> int:
        """An even whole number within limits."""
        got = self.number(name, low, high)
        if got % 2:
            raise self.wrong(name, "an even number of px", got)
        return got

    def decimal(self, name: str, low: float, high: float) -> float:
        """A number within limits."""
        got = self.value(name)
        if not isinstance(got, int | float) or isinstance(got, bool) or not low <= got <= high:
            raise self.wrong(name, f"a number from {low:g} to {high:g}", got)
        return float(got)

    def truth(self, name: str) -> bool:
        """True or false."""
        got = self.value(name)
        if not isinstance(got, bool):
            raise self.wrong(name, "true or false", got)
        return got

    def rate(self, name: str, choices: tuple[str, ...] = ()) -> Fraction:
        """A frame rate."""
        if choices:
            return Fraction(self.choice(name, choices, "one of the frame rates "))
        expected = f"a frame rate from 1 to {MAX_FPS}, such as 30 or 30000/1001"
        top, _, bottom = self.matching(name, RATE_PATTERN, expected).partition("/")
        if int(bottom or 1) == 0 or not 1 <= Fraction(int(top), int(bottom or 1)) <= MAX_FPS:
            raise self.wrong(name, expected, self.value(name))
        return Fraction(int(top), int(bottom or 1))

    def place(self, name: str) -> Box:
        """A box that may lie outside of what it is measured in, with sizes above 0."""
        got = self.value(name)
        if not isinstance(got, list) or len(got) != 4:
            raise self.wrong(name, "[left, top, width, height] in px", got)
        if not all(isinstance(v, int) and not isinstance(v, bool) for v in got):
            raise self.wrong(name, "four whole numbers of px", got)
        if min(got[2], got[3]) < 1 or max(map(abs, got)) > FARTHEST_PX:
            raise self.wrong(name, f"a box of at least 1 × 1 px within {FARTHEST_PX} px", got)
        return Box(*got)

    def box(self, name: str) -> Box:
        """An even box that does not reach below 0."""
        got = self.value(name)
        if not isinstance(got, list) or len(got) != 4:
            raise self.wrong(name, "[left, top, width, height] in px", got)
        if not all(isinstance(v, int) and not isinstance(v, bool) and v % 2 == 0 for v in got):
            raise self.wrong(name, "four even numbers of px", got)
        if min(got[0], got[1]) < 0 or min(got[2], got[3]) < 2 or max(got) > 7680:
            raise self.wrong(name, "a box of at least 2 × 2 px inside the picture", got)
        return Box(*got)

    def part(self, name: str) -> "Reader":
        """An object within this one."""
        return Reader(self.value(name), self._at(name))

    def rows(self, name: str, most: int) -> list["Reader"]:
        """A list of objects."""
        got = self.value(name)
        if not isinstance(got, list) or len(got) > most:
            raise self.wrong(name, f"a list of at most {most}", got)
        return [Reader(row, f"{self._at(name)}[{n}]") for n, row in enumerate(got)]
