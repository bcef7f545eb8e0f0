"""Boxes in pixels: where layers lie in the frame and what of a picture is used."""

from dataclasses import dataclass
from math import ceil, floor
from typing import Annotated

from annotated_types import Interval

from kettle_core.errors import PictureError

# What sums of floats are off by at most.
NEARLY_PX = 1e-6
FARTHEST_PX = 16_000
Place = Annotated[int, Interval(ge=-FARTHEST_PX, le=FARTHEST_PX)]
Length = Annotated[int, Interval(ge=1, le=FARTHEST_PX)]


@dataclass(frozen=True)
class Box:
    """A rectangle in whole pixels of a named space; left/top inclusive, right/bottom not."""

    left: Place
    top: Place
    width: Length
    height: Length

    @property
    def right(self) -> int:
        """First column after the box."""
        return self.left + self.width

    @property
    def bottom(self) -> int:
        """First row after the box."""
        return self.top + self.height

    @property
    def outer(self) -> "Box":
        """The box itself: whole pixels (see `Part.outer`)."""
        return self

    def holds(self, other: "Box | Part") -> bool:
        """Whether another box lies wholly inside."""
        return (
            self.left <= other.left
            and self.top <= other.top
            and other.right <= self.right
            and other.bottom <= self.bottom
        )


@dataclass(frozen=True)
class Part:
    """A rectangle that may begin and end within pixels of a named space."""

    left: float
    top: float
    width: float
    height: float

    @property
    def right(self) -> float:
        """Where it ends across."""
        return self.left + self.width

    @property
    def bottom(self) -> float:
        """Where it ends down."""
        return self.top + self.height

    @property
    def outer(self) -> Box:
        """The whole pixels that it touches."""
        left, top = floor(self.left + NEARLY_PX), floor(self.top + NEARLY_PX)
        right, bottom = ceil(self.right - NEARLY_PX), ceil(self.bottom - NEARLY_PX)
        return Box(left, top, right - left, bottom - top)


def even(value: float) -> int:
    """Nearest even whole number: 4:2:0 chroma samples cover two by two pixels.

    >>> [even(v) for v in (0.4, 1.0, 3.0, 5.2)]
    [0, 0, 4, 6]
    """
    return 2 * round(value / 2)


def fit_inside(width: int, height: int, space: Box) -> Box:
    """Largest even box of an aspect ratio, centred in a space.

    Parameters
    ----------
    width, height : int > 0, the aspect ratio
    space : Box, in frame pixels

    Returns
    -------
    Box, in frame pixels

    Raises
    ------
    PictureError
        If a size is not above 0.
    """
    if width <= 0 or height <= 0:
        raise PictureError(f"A picture must be at least 1 × 1 px, got {width} × {height} px.")
    scale = min(space.width / width, space.height / height)
    fitted_width = min(max(2, even(width * scale)), space.width)
    fitted_height = min(max(2, even(height * scale)), space.height)
    left = space.left + even((space.width - fitted_width) / 2)
    top = space.top + even((space.height - fitted_height) / 2)
    return Box(left, top, fitted_width, fitted_height)


def crop_to_aspect(width: int, height: int, aspect_width: int, aspect_height: int) -> Box:
    """Largest centred even box of an aspect ratio within a picture, in picture pixels."""
    return fit_inside(aspect_width, aspect_height, Box(0, 0, width, height))
