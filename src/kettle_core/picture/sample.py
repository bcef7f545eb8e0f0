"""From a layer's region of the frame to its source picture, plane by plane.

A pixel's middle lies at half whole numbers. Chroma samples of 4:2:0 lie on the even columns and
between two rows: sample (i, j) at x = 2i + 0.5, y = 2j + 1 (ITU-T H.264, type 0).
"""

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np

from kettle_core.picture.picture import Picture, Plane
from kettle_core.picture.resample import (
    MOST_SHRUNK,
    Line,
    Planes,
    Resampler,
    Shrink,
    shrunk_by,
    whole_factor,
)
from kettle_core.scene.layout import Box, Part
from kettle_core.scene.placing import turned
from kettle_core.scene.scene_plan import PlacedLayer


@dataclass(frozen=True)
class Sampler:
    """Gives a region's part of luma-sized and chroma-sized planes.

    `at_once` gives all three of a picture, or None where that can't be done.
    """

    source_size: tuple[int, int]
    luma: Callable[[Plane], Plane]
    chroma: Callable[[Plane], Plane]
    at_once: Callable[[Picture], Planes | None] = lambda source: None

    def planes(self, source: Picture) -> Planes:
        """Y, U and V of the region."""
        if found := self.at_once(source):
            return found
        return self.luma(source.y), self.chroma(source.u), self.chroma(source.v)


def sampler(
    layer: PlacedLayer, region: Box, size: tuple[int, int], shrink: Shrink | None = None
) -> Sampler:
    """How a layer is sampled from pictures of a size.

    Parameters
    ----------
    layer : PlacedLayer; a crop that does not lie on the picture takes all of it
    region : Box, the part of the layer that is drawn, in frame px
    size : width and height of the pictures in px
    shrink : as of `Resampler`
    """
    whole = Box(0, 0, *size)
    crop: Box | Part = layer.crop if whole.holds(layer.crop) else whole
    if layer.is_exact:
        return Sampler(
            size,
            _straight(layer, region, crop, False, shrink),
            _straight(layer, region, crop, True, shrink),
            _at_once(layer, region, crop, shrink),
        )
    return Sampler(
        size,
        _between(layer, region, crop, chroma=False),
        _between(layer, region, crop, chroma=True),
    )


def source_point(layer: PlacedLayer, x: float, y: float) -> tuple[float, float]:
    """Where in its picture a layer shows a point of the frame, in px of the picture."""
    cos, sin = turned((1.0, 0.0), (0.0, 0.0), layer.turn)
    dx, dy = x - layer.middle[0], y - layer.middle[1]
    own_x, own_y = cos * dx + sin * dy, cos * dy - sin * dx
    own_x = -own_x if layer.mirrored else own_x
    crop = layer.crop
    return (
        crop.left + crop.width / 2 + own_x * crop.width / layer.width,
        crop.top + crop.height / 2 + own_y * crop.height / layer.height,
    )


def chroma_box(box: Box) -> Box:
    """The chroma samples whose two by two pixels a box touches."""
    left, top = box.left // 2, box.top // 2
    return Box(left, top, (box.right + 1) // 2 - left, (box.bottom + 1) // 2 - top)


def _at_once(
    layer: PlacedLayer, region: Box, crop: Box | Part, shrink: Shrink | None
) -> Callable[[Picture], Planes | None]:
    """An upright layer, whole and smaller than its picture: where chroma lies among the pixels
    is the same in both, so that one call makes all planes.
    """
    size = (region.width, region.height)
    boxes = [x for x in (region, crop) if isinstance(x, Box)]
    is_even = not any(n % 2 for x in boxes for n in (x.left, x.top, x.width, x.height))
    is_upright = layer.turn % 360 == 0 and not layer.mirrored
    factors = crop.width / region.width, crop.height / region.height
    shrinks = all(1 < factor <= MOST_SHRUNK for factor in factors)
    is_whole = (layer.width, layer.height) == size and shrinks and is_upright and is_even
    if not (shrink and is_whole and isinstance(crop, Box)):
        return lambda source: None
    luma = np.s_[crop.top : crop.bottom, crop.left : crop.right]
    half = chroma_box(crop)
    chroma = np.s_[half.top : half.bottom, half.left : half.right]
    return lambda source: shrink.picture(
        (source.y[luma], source.u[chroma], source.v[chroma]), *size
    )


def _straight(
    layer: PlacedLayer, region: Box, crop: Box | Part, chroma: bool, shrink: Shrink | None
) -> Callable[[Plane], Plane]:
    """Sampling along rows and columns, for right angles on whole pixels."""
    quarter = round(layer.turn / 90) % 4
    swapped = quarter % 2 == 1
    flip_x = (quarter in (2, 3)) != layer.mirrored
    flip_y = quarter in (1, 2)
    b = layer.bounds
    place = chroma_box(region) if chroma else region
    usable = chroma_box(crop.outer) if chroma else crop.outer

    def line(horizontal_source: bool, horizontal: bool) -> Line:
        length = layer.width if horizontal_source else layer.height
        first, used = (crop.left, crop.width) if horizontal_source else (crop.top, crop.height)
        flipped = flip_x if horizontal_source else flip_y
        origin = b.left if horizontal else b.top
        count, at = (place.width, place.left) if horizontal else (place.height, place.top)
        low, high = (
            (usable.left, usable.right) if horizontal_source else (usable.top, usable.bottom)
        )
        scale = used / length
        # A chroma sample's range of px in the frame begins half a px early across.
        begin = (2 * at - (0.5 if horizontal else 0.0) if chroma else at) - origin
        source = first + used - begin * scale if flipped else first + begin * scale
        step = -scale if flipped else scale
        if chroma:
            source = (source + (0.5 if horizontal_source else 0.0)) / 2
        return Line(count, source, step, low, high)

    across, down = line(not swapped, True), line(swapped, False)

    lines = Resampler(down, across, shrink)

    def sample(plane: Plane) -> Plane:
        return lines.sample(plane.T if swapped else plane)

    return sample


def _between(
    layer: PlacedLayer, region: Box, crop: Box | Part, chroma: bool
) -> Callable[[Plane], Plane]:
    """Sampling between pixels, for any turn and place.

    Whole factors are shrunk first; what is left is bilinear when shrinking, bicubic when not.
    """
    place = chroma_box(region) if chroma else region
    usable = chroma_box(crop.outer) if chroma else crop.outer
    scale_x, scale_y = crop.width / layer.width, crop.height / layer.height
    by_x = whole_factor(scale_x, usable.width)
    by_y = whole_factor(scale_y, usable.height)
    x = np.arange(place.left, place.right, dtype=np.float64)
    y = np.arange(place.top, place.bottom, dtype=np.float64)
    x = 2 * x + 0.5 if chroma else x + 0.5
    y = 2 * y + 1.0 if chroma else y + 0.5
    cos, sin = turned((1.0, 0.0), (0.0, 0.0), layer.turn)
    x, y = x[None, :] - layer.middle[0], y[:, None] - layer.middle[1]
    own_x, own_y = cos * x + sin * y, cos * y - sin * x
    own_x = -own_x if layer.mirrored else own_x
    source_x = crop.left + crop.width / 2 + own_x * scale_x
    source_y = crop.top + crop.height / 2 + own_y * scale_y
    if chroma:
        source_x, source_y = (source_x + 0.5) / 2, source_y / 2
    map_x = ((source_x - usable.left) / by_x - 0.5).astype(np.float32)
    map_y = ((source_y - usable.top) / by_y - 0.5).astype(np.float32)
    growing = max(scale_x, scale_y) <= 1 + 1e-9
    method = cv2.INTER_CUBIC if growing else cv2.INTER_LINEAR

    def sample(plane: Plane) -> Plane:
        part = plane[usable.top : usable.bottom, usable.left : usable.right]
        part = shrunk_by(part, by_x, by_y)
        found = cv2.remap(part, map_x, map_y, method, borderMode=cv2.BORDER_REPLICATE)
        return np.asarray(found, np.uint8)

    return sample
