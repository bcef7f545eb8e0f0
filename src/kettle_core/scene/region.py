"""Regions of a display: moved, resized and typed so that they stay on it and stay even."""

from math import gcd

from kettle_core.errors import PictureError
from kettle_core.scene.layout import Box, even

SMALLEST_PX = 64
PRESETS = ((1920, 1080), (1280, 720), (854, 480), (1080, 1080), (1080, 1920))
SIDES = ("left", "top", "right", "bottom")
NAMED_ASPECTS = ((16, 9), (9, 16), (4, 3), (3, 4), (3, 2), (1, 1), (21, 9), (16, 10))


def place_region(box: Box, width: int, height: int) -> Box:
    """The nearest region that lies on a display and is even.

    Parameters
    ----------
    box : Box, any whole numbers, in display px
    width, height : int, size of the display in px

    Returns
    -------
    Box
        Even, inside, at least 64 × 64 px (or the display, where that is smaller).
    """
    across, down = even(width - 0.5), even(height - 0.5)
    region_width = _within(even(box.width), min(SMALLEST_PX, across), across)
    region_height = _within(even(box.height), min(SMALLEST_PX, down), down)
    left = _within(even(box.left), 0, across - region_width)
    top = _within(even(box.top), 0, down - region_height)
    return Box(left, top, region_width, region_height)


def resize_region(
    box: Box, side: str, by_px: int, width: int, height: int, keep_aspect: bool = False
) -> Box:
    """A region with one side moved outwards by some px; the opposite side stays.

    Parameters
    ----------
    box : Box, even, on the display
    side : "left", "top", "right" or "bottom"
    by_px : int, below 0 to make the region smaller
    width, height : int, size of the display in px
    keep_aspect : bool
        The other dimension follows, growing to the right or downwards as far as there is
        room; the ratio of the sides changes by rounding to even px only.

    Raises
    ------
    PictureError
        If there is no such side.
    """
    if side not in SIDES:
        raise PictureError(f"A region has the sides {', '.join(SIDES)}; got “{side}”.")
    across = side in ("left", "right")
    size, other = (box.width, box.height) if across else (box.height, box.width)
    room = {
        "left": box.right,
        "right": width - box.left,
        "top": box.bottom,
        "bottom": height - box.top,
    }[side]
    other_room = height - box.top if across else width - box.left
    most = even(room - 0.5)
    least = min(SMALLEST_PX, most)
    if keep_aspect:
        most = min(most, 2 * int(other_room * size / other / 2))
        least = min(max(least, even(SMALLEST_PX * size / other)), most)
    wanted = _within(even(size + by_px), least, most)
    follows = min(even(wanted * other / size), even(other_room - 0.5)) if keep_aspect else other
    new_width, new_height = (wanted, follows) if across else (follows, wanted)
    left = box.right - new_width if side == "left" else box.left
    top = box.bottom - new_height if side == "top" else box.top
    return Box(left, top, new_width, new_height)


def preset_region(size: tuple[int, int], around: Box, width: int, height: int) -> Box:
    """A region of a preset size about the middle of another one. Raises PictureError."""
    if size[0] > width or size[1] > height:
        raise PictureError(
            f"A region of {size[0]} × {size[1]} px does not fit on a display of "
            f"{width} × {height} px. Choose a smaller one."
        )
    left = around.left + (around.width - size[0]) // 2
    top = around.top + (around.height - size[1]) // 2
    return place_region(Box(left, top, *size), width, height)


def turn_box(box: Box, width: int, height: int, turn: int, mirrored: bool) -> Box:
    """Where a box of a picture lies after the picture is turned clockwise, then mirrored.

    Parameters
    ----------
    box : Box, in px of a picture of `width` × `height` px
    turn : 0, 90, 180 or 270
    """
    left, top, across, down = box.left, box.top, box.width, box.height
    for _ in range(turn // 90):
        left, top, across, down = height - top - down, left, down, across
        width, height = height, width
    return Box(width - left - across if mirrored else left, top, across, down)


def unturn_box(box: Box, width: int, height: int, turn: int, mirrored: bool) -> Box:
    """The other way round: `box` lies in the turned picture, `width` × `height` is unturned."""
    seen_width, seen_height = (height, width) if turn in (90, 270) else (width, height)
    if mirrored:
        box = Box(seen_width - box.right, box.top, box.width, box.height)
    return turn_box(box, seen_width, seen_height, (360 - turn) % 360, mirrored=False)


def aspect_in_words(width: int, height: int) -> str:
    """The ratio of the sides as people say it.

    >>> aspect_in_words(1920, 1080), aspect_in_words(854, 480), aspect_in_words(1000, 620)
    ('16:9', 'about 16:9', '1.61:1')
    """
    for across, down in NAMED_ASPECTS:
        if width * down == height * across:
            return f"{across}:{down}"
        if abs(width / height / (across / down) - 1) < 0.005:
            return f"about {across}:{down}"
    part = gcd(width, height)
    if width // part <= 32 and height // part <= 32:
        return f"{width // part}:{height // part}"
    return f"{width / height:.2f}:1" if width >= height else f"1:{height / width:.2f}"


def _within(value: int, low: int, high: int) -> int:
    return min(max(value, low), high)
