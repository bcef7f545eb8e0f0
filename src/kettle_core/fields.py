"""Types of the fields of documents: `Annotated` with their limits, and with what is expected.

Numbers and counts say their limits in the standard's terms (annotated_types). What that has no
term for is here. Whoever reads documents asks the annotation for its schema; the method has the
name, and the plain data the shape, that pydantic gives them.
"""

from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction
from typing import Annotated, Any

from annotated_types import Interval

ID_PATTERN = r"[a-z][a-z0-9-]{0,39}"
DIGEST_PATTERN = r"[0-9a-f]{64}"
COLOUR_PATTERN = r"#[0-9a-f]{6}"
MAX_FPS = 240

Asked = Callable[[Any], dict[str, Any]]


@dataclass(frozen=True)
class Matching:
    """A text that matches a pattern as a whole; `expected` says so in words."""

    pattern: str
    expected: str

    def __get_pydantic_core_schema__(self, kind: Any, asked: Asked) -> dict[str, Any]:
        return _told({"type": "str", "pattern": f"^(?:{self.pattern})$"}, self.expected)


@dataclass(frozen=True)
class Text:
    """A text that is not blank; room around it is left out."""

    most: int = 80

    def __get_pydantic_core_schema__(self, kind: Any, asked: Asked) -> dict[str, Any]:
        text = {"type": "str", "strip_whitespace": True, "min_length": 1, "max_length": self.most}
        return _told(text, f"a text of 1 to {self.most} characters")


@dataclass(frozen=True)
class OneOf:
    """One of several texts."""

    choices: tuple[str, ...]
    what: str = ""

    def __get_pydantic_core_schema__(self, kind: Any, asked: Asked) -> dict[str, Any]:
        words = f"one of {self.what} {', '.join(self.choices)}".replace("  ", " ")
        return _as_kind(kind, {"type": "literal", "expected": list(self.choices)}, words)


@dataclass(frozen=True)
class Rate:
    """A frame rate as text, such as 30 or 30000/1001: 0 for none, or within limits.

    Its digits are counted before it is made a number: "1e99999999" would take minutes.
    """

    low: int
    high: int

    def __get_pydantic_core_schema__(self, kind: Any, asked: Asked) -> dict[str, Any]:
        text = {"type": "str", "pattern": r"^[0-9]{1,7}(?:/[0-9]{1,7})?$"}
        expected = f"a frame rate from {self.low} to {self.high}, such as 30 or 30000/1001"
        return _as_kind(self._checked, text, expected)

    def _checked(self, text: str) -> Fraction:
        top, _, bottom = text.partition("/")
        if int(bottom or 1) == 0:
            raise ValueError
        value = Fraction(int(top), int(bottom or 1))
        if value and not self.low <= value <= self.high:
            raise ValueError
        return value


def within(low: float, high: float) -> Interval:
    """Limits of a number, both of them allowed."""
    return Interval(ge=low, le=high)


def _as_kind(make: Callable[[str], Any], text: dict[str, Any], expected: str) -> dict[str, Any]:
    """What a text of a schema makes; written as text again."""
    if make is not str:
        function = {"type": "no-info", "function": make}
        text = {"type": "function-after", "function": function, "schema": text}
        text["serialization"] = {"type": "to-string"}
    return _told(text, expected)


def _told(schema: dict[str, Any], expected: str) -> dict[str, Any]:
    return {
        "type": "custom-error",
        "schema": schema,
        "custom_error_type": "expected",
        "custom_error_message": f"should be {expected}",
    }


Id = Annotated[str, Matching(ID_PATTERN, "a-z, 0-9 and -, 1 to 40 characters")]
OptionalId = Annotated[
    str, Matching(f"({ID_PATTERN})?", "empty, or a-z, 0-9 and -, to 40 characters")
]
Name = Annotated[str, Text()]
OptionalDigest = Annotated[str, Matching(f"({DIGEST_PATTERN})?", "empty, or 64 digits 0-9 a-f")]
Colour = Annotated[str, Matching(COLOUR_PATTERN, "a colour such as #1d2b33")]
ColourOrClear = Annotated[
    str, Matching(f"({COLOUR_PATTERN})?", "a colour such as #1d2b33, or empty for clear")
]
Percent = Annotated[int, Interval(ge=0, le=100)]
Degrees = Annotated[float, Interval(ge=0, lt=360)]
FrameRate = Annotated[Fraction, Rate(1, MAX_FPS)]
