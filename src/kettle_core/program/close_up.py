"""Close-ups: which part of a picture is shown, and how it follows the pointer.

All in px of the input's picture.
"""

from collections.abc import Iterable

from kettle_core.program.cues import CloseUp
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import Layer
from kettle_core.timing.ticks import NS_PER_S

# Within so much of the part, from its middle, the pointer moves without the part moving.
CALM_SHARE = 0.6
FOLLOW_MS = 800
# A close-up that is on its way is not sent elsewhere.
REST_NS = round(1.5 * NS_PER_S)
# Where a pointer was, by record time: (ns, x, y) in px of its picture, rising.
Way = Iterable[tuple[int, float, float]]


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


def part_seen(layer: Layer, seen: Box) -> Box | None:
    """The part of a picture that lies within a rectangle of the frame; None if nothing does.

    Parameters
    ----------
    layer : as it is seen, not turned
    seen : in px of the frame

    >>> whole = Layer("l", "i", Box(960, 0, 960, 540), Box(0, 0, 1920, 1080))
    >>> part_seen(whole, Box(1200, 135, 480, 270))
    Box(left=480, top=270, width=960, height=540)
    """
    box, crop = layer.box, layer.crop
    left, right = max(seen.left, box.left), min(seen.right, box.right)
    top, bottom = max(seen.top, box.top), min(seen.bottom, box.bottom)
    if left >= right or top >= bottom:
        return None
    if layer.mirrored:
        left, right = box.left + box.right - right, box.left + box.right - left
    across, down = crop.width / box.width, crop.height / box.height
    x, y = crop.left + (left - box.left) * across, crop.top + (top - box.top) * down
    width, height = max(1, round((right - left) * across)), max(1, round((bottom - top) * down))
    x, y = (
        min(max(0, round(at)), most) for at, most in ((x, crop.right - 1), (y, crop.bottom - 1))
    )
    return Box(x, y, min(width, crop.right - x), min(height, crop.bottom - y))


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


def close_up_cues(
    input_id: str,
    size: tuple[int, int],
    times: float,
    stretch: tuple[int, int],
    way: Way,
    follows: bool,
    length_ms: int,
    drawn: Box | None = None,
) -> list[CloseUp]:
    """The cues of a close-up that is laid over a stretch afterwards.

    Parameters
    ----------
    input_id, size : whose picture it is, its width and height in px
    times : how many times larger it is shown, >= 1
    stretch : from and until in record time, ns
    way : where its pointer was; the picture goes nearer to it, or to its middle without one
    follows : whether it goes on with the pointer, as it does while recording
    length_ms : how long it takes to go nearer
    drawn : the part that is gone nearer to, instead of `times` and the pointer
    """
    at_ns, until_ns = stretch
    x, y = size[0] / 2, size[1] / 2
    after: list[tuple[int, float, float]] = []
    for moment in way:
        if moment[0] <= at_ns:
            _, x, y = moment
        elif moment[0] < until_ns:
            after.append(moment)
    part = drawn or part_near(size, times, x, y)
    found, moved_ns = [CloseUp(at_ns, input_id, part, length_ms)], at_ns
    for now_ns, x, y in after if follows else ():
        nearer = part_following(part, size, x, y) if now_ns - moved_ns >= REST_NS else None
        if nearer:
            part, moved_ns = nearer, now_ns
            found.append(CloseUp(now_ns, input_id, part, FOLLOW_MS))
    return found
