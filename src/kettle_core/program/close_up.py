"""Close-ups while recording: which part of a picture is shown, and how it follows the pointer.

All in px of the input's picture.
"""

from kettle_core.scene.layout import Box

# Within so much of the part, from its middle, the pointer moves without the part moving.
CALM_SHARE = 0.6
FOLLOW_MS = 800


def part_near(size: tuple[int, int], times: float, x: float, y: float) -> Box:
    """The part that is shown when the picture goes nearer to a point.

    Parameters
    ----------
    size : width and height of the picture
    times : how many times larger it is shown, >= 1
    x, y : the point; the part lies round it as far as the picture reaches

    Returns
    -------
    Box
        Within the picture, of its shape.

    >>> part_near((1920, 1080), 2, 1900, 540)
    Box(left=960, top=270, width=960, height=540)
    """
    width, height = max(1, round(size[0] / times)), max(1, round(size[1] / times))
    left = min(max(round(x - width / 2), 0), size[0] - width)
    top = min(max(round(y - height / 2), 0), size[1] - height)
    return Box(left, top, width, height)


def part_following(part: Box, size: tuple[int, int], x: float, y: float) -> Box | None:
    """Where a part goes when the pointer has left its calm middle; None while it need not.

    It goes until the pointer is in its middle again, as far as the picture reaches: one way now
    instead of many small ones.
    """
    left = _followed(part.left, part.width, size[0], x)
    top = _followed(part.top, part.height, size[1], y)
    if (left, top) == (part.left, part.top):
        return None
    return Box(left, top, part.width, part.height)


def _followed(start: int, length: int, whole: int, at: float) -> int:
    margin = length * (1 - CALM_SHARE) / 2
    if start + margin <= at <= start + length - margin:
        return start
    return min(max(round(at - length / 2), 0), whole - length)
