"""Geometry of layers in the frame: turned boxes, snapping, aligning, cropping, scale in words."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from math import cos, radians, sin

from kettle_core.errors import PictureError
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import Layer

SAFE_MARGIN = 0.05  # EBU R 95: graphics lie inside 90 % of the frame.
SNAP_REACH_PX = 12
LEAST_PX = 8
MOST_PX = 16_000
ALIGNMENTS = ("left", "centre", "right", "top", "middle", "bottom")
Point = tuple[float, float]


@dataclass(frozen=True)
class Bounds:
    """An upright rectangle in frame px that need not be whole."""

    left: float
    top: float
    right: float
    bottom: float

    @property
    def places(self) -> tuple[tuple[float, ...], tuple[float, ...]]:
        """What snaps: left, centre, right; and top, middle, bottom."""
        across = (self.left, (self.left + self.right) / 2, self.right)
        return across, (self.top, (self.top + self.bottom) / 2, self.bottom)


def turned(point: Point, about: Point, degrees: float) -> Point:
    """A point turned clockwise about another one (y runs downwards)."""
    x, y = point[0] - about[0], point[1] - about[1]
    c, s = _cos_sin(degrees)
    return about[0] + c * x - s * y, about[1] + s * x + c * y


def _cos_sin(degrees: float) -> tuple[float, float]:
    """Exact at right angles."""
    quarter, rest = divmod(degrees, 90)
    if rest == 0:
        return ((1.0, 0.0), (0.0, 1.0), (-1.0, 0.0), (0.0, -1.0))[int(quarter) % 4]
    return cos(radians(degrees)), sin(radians(degrees))


def corners(box: Box, turn: float) -> tuple[Point, Point, Point, Point]:
    """Corners of a turned box, clockwise from the one that was top left before the turn."""
    middle = (box.left + box.width / 2, box.top + box.height / 2)
    upright = (
        (box.left, box.top),
        (box.right, box.top),
        (box.right, box.bottom),
        (box.left, box.bottom),
    )
    a, b, c, d = (turned(p, middle, turn) for p in upright)
    return a, b, c, d


def bounds_of(box: Box, turn: float = 0.0) -> Bounds:
    """The upright rectangle around a turned box."""
    found = corners(box, turn)
    return Bounds(
        min(x for x, _ in found),
        min(y for _, y in found),
        max(x for x, _ in found),
        max(y for _, y in found),
    )


def bounds_of_all(layers: Sequence[Layer]) -> Bounds:
    """The upright rectangle around several layers."""
    found = [bounds_of(x.box, x.turn) for x in layers]
    return Bounds(
        min(b.left for b in found),
        min(b.top for b in found),
        max(b.right for b in found),
        max(b.bottom for b in found),
    )


@dataclass(frozen=True)
class SnapLine:
    """A line that layers snap to: `axis` "x" or "y", its place in frame px, what it is."""

    axis: str
    at: float
    words: str


def snap_lines(frame: Box, others: Sequence[tuple[str, Bounds]]) -> tuple[SnapLine, ...]:
    """Lines of the frame (edges, centre, thirds, safe margin) and of other layers.

    Parameters
    ----------
    frame : Box
    others : names and bounds of the layers that stay where they are
    """
    found = []
    for axis, size in (("x", frame.width), ("y", frame.height)):
        margin = SAFE_MARGIN * size
        found += [
            SnapLine(axis, 0, "edge"),
            SnapLine(axis, size, "edge"),
            SnapLine(axis, size / 2, "centre"),
            SnapLine(axis, size / 3, "third"),
            SnapLine(axis, size * 2 / 3, "third"),
            SnapLine(axis, margin, "safe margin"),
            SnapLine(axis, size - margin, "safe margin"),
        ]
    for name, bounds in others:
        for axis, places in zip("xy", bounds.places, strict=True):
            edges = ("edge", "centre", "edge")
            found += [
                SnapLine(axis, at, f"{word} of {name}")
                for at, word in zip(places, edges, strict=True)
            ]
    return tuple(found)


def moved(layer: Layer, dx: float, dy: float) -> Layer:
    """A layer moved by some px, to the nearest whole ones."""
    box = layer.box
    left, top = round(box.left + dx), round(box.top + dy)
    return replace(layer, box=Box(left, top, box.width, box.height))


def box_about(middle: Point, width: float, height: float) -> Box:
    """The whole box of a size that lies nearest to about a point."""
    width, height = max(1, round(width)), max(1, round(height))
    left, top = round(middle[0] - width / 2), round(middle[1] - height / 2)
    return Box(left, top, width, height)


def middle_of(box: Box) -> Point:
    """The middle of a box."""
    return box.left + box.width / 2, box.top + box.height / 2


def aligned(layers: Sequence[Layer], how: str, frame: Box) -> tuple[Layer, ...]:
    """Layers moved to a common edge or centre of them all; a single one to the frame's.

    Raises
    ------
    PictureError
        If there is no such way to align.
    """
    if how not in ALIGNMENTS:
        raise PictureError(f"Layers are aligned {', '.join(ALIGNMENTS)}; got “{how:.20}”.")
    across = how in ALIGNMENTS[:3]
    place = ALIGNMENTS.index(how) % 3
    whole = bounds_of_all(layers) if len(layers) > 1 else bounds_of(frame)
    to = whole.places[0 if across else 1][place]
    found = []
    for layer in layers:
        by = to - bounds_of(layer.box, layer.turn).places[0 if across else 1][place]
        found.append(moved(layer, by if across else 0, 0 if across else by))
    return tuple(found)


def distributed(layers: Sequence[Layer], across: bool) -> tuple[Layer, ...]:
    """Layers with equal gaps between them; the first and the last stay where they are.

    Raises
    ------
    PictureError
        If there are fewer than three.
    """
    if len(layers) < 3:
        raise PictureError("At least three layers are needed for equal gaps. Pick more.")
    spans = {}
    for layer in layers:
        b = bounds_of(layer.box, layer.turn)
        spans[layer.id] = (b.left, b.right) if across else (b.top, b.bottom)
    order = sorted(layers, key=lambda x: spans[x.id])
    first, last = spans[order[0].id], spans[order[-1].id]
    inside = sum(spans[x.id][1] - spans[x.id][0] for x in order[1:-1])
    gap = (last[0] - first[1] - inside) / (len(order) - 1)
    at, by = first[1], {}
    for layer in order[1:-1]:
        low, high = spans[layer.id]
        by[layer.id] = at + gap - low
        at += gap + high - low
    return tuple(
        moved(x, by.get(x.id, 0) if across else 0, 0 if across else by.get(x.id, 0)) for x in layers
    )


def resized(layer: Layer, width: float, height: float) -> Layer:
    """A layer at another size about its middle."""
    return replace(layer, box=box_about(middle_of(layer.box), width, height))


def same_size(layers: Sequence[Layer], what: str) -> tuple[Layer, ...]:
    """Layers made as wide or as high as the first one, each keeping its aspect ratio.

    Raises
    ------
    PictureError
        If `what` is neither "width" nor "height".
    """
    if what not in ("width", "height"):
        raise PictureError(f"Layers are made the same width or height, not “{what:.20}”.")
    wanted = getattr(layers[0].box, what)
    found = []
    for layer in layers:
        factor = wanted / getattr(layer.box, what)
        found.append(resized(layer, layer.box.width * factor, layer.box.height * factor))
    return tuple(found)


def recropped(layer: Layer, crop: Box) -> Layer:
    """A layer that shows another part of its picture; what stays keeps its place and scale."""
    before, box = layer.crop, layer.box
    sx, sy = box.width / before.width, box.height / before.height
    dx = (crop.left + crop.width / 2 - before.left - before.width / 2) * sx
    dy = (crop.top + crop.height / 2 - before.top - before.height / 2) * sy
    middle = middle_of(box)
    dx = -dx if layer.mirrored else dx
    to = turned((middle[0] + dx, middle[1] + dy), middle, layer.turn)
    return replace(layer, crop=crop, box=box_about(to, crop.width * sx, crop.height * sy))


def at_one_to_one(layer: Layer) -> Layer:
    """A layer about the same middle with a px of the frame for each px of its picture."""
    return resized(layer, layer.crop.width, layer.crop.height)


def scale_of(layer: Layer) -> tuple[float, float]:
    """Frame px for each px of the picture, across and down."""
    return layer.box.width / layer.crop.width, layer.box.height / layer.crop.height


def scale_in_words(layer: Layer) -> tuple[str, str]:
    """The scale as a number and what it does to the picture.

    >>> box = Box(0, 0, 1190, 670)
    >>> scale_in_words(Layer("a", "a", box, Box(0, 0, 1920, 1080)))
    ('62 %', 'shrunk: small text gets smaller')
    >>> scale_in_words(Layer("a", "a", box, box))
    ('1:1', 'crisp')
    """
    across, down = scale_of(layer)
    if across == down == 1:
        crisp = layer.turn % 90 == 0
        return "1:1", "crisp" if crisp else "softened a little by the turn"
    if abs(across / down - 1) > 0.02:
        return f"{across * 100:.0f} × {down * 100:.0f} %", "distorted: its aspect ratio is changed"
    size = f"{across * 100:.0f} %" if round(across * 100) != 100 else f"{across * 100:.1f} %"
    if across < 1:
        return size, "shrunk: small text gets smaller"
    return size, "enlarged: it looks soft"


def outside_in_words(layer: Layer, frame: Box) -> str:
    """What of a layer lies outside the frame, "" where nothing does."""
    b = bounds_of(layer.box, layer.turn)
    if b.right <= 0 or b.bottom <= 0 or b.left >= frame.width or b.top >= frame.height:
        return "It lies wholly outside the frame, so nothing of it is seen."
    over = {
        "left": -b.left,
        "top": -b.top,
        "right": b.right - frame.width,
        "bottom": b.bottom - frame.height,
    }
    parts = [f"{px:.0f} px at the {side}" for side, px in over.items() if px >= 0.5]
    if not parts:
        return ""
    return f"It reaches beyond the frame: {', '.join(parts)} not seen."
