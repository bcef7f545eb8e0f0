"""How much of each pixel a layer covers: shapes with soft edges, borders, shadows, turned freely.

Shapes are given by their signed distance in px, below 0 inside; the edge lies where it is 0.
"""

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from kettle_core.scene.layout import Box, fit_inside
from kettle_core.scene.placing import Point
from kettle_core.scene.scene import Mask

Floats = NDArray[np.float32]
Plane = NDArray[np.uint8]


@dataclass(frozen=True)
class Figure:
    """A layer's outline: its size in px before the turn, the turn in degrees, its middle."""

    width: float
    height: float
    turn: float
    middle: Point

    def moved(self, dx: float, dy: float) -> "Figure":
        """The same at another place."""
        middle = (self.middle[0] + dx, self.middle[1] + dy)
        return Figure(self.width, self.height, self.turn, middle)


def coverage(mask: Mask, figure: Figure, region: Box, still: Plane | None = None) -> (
    tuple[Floats, Floats | None]
):  # fmt: skip
    """Coverage of the pixels of a region, and how much of it the border leaves to the picture.

    Parameters
    ----------
    mask : Mask
    figure : Figure, its middle in px of the frame
    region : Box, in frame px
    still : (rows, columns) uint8 ndarray, for a mask that is a picture; 255 is seen

    Returns
    -------
    outer : (region.height, region.width) float32 ndarray, 0 to 1
    inner : the same, or None without a border
    """
    if mask.shape == "picture":
        return _picture_coverage(mask, figure, region, still)
    placed = figure.moved(-region.left, -region.top)
    x, y = _own_places(placed, region.width, region.height)
    distance = _distance(mask, figure, x, y)
    outer = np.asarray(np.clip((0.5 - distance) / max(1, mask.soft_px), 0, 1), np.float32)
    if not mask.border_px:
        return outer, None
    return outer, np.asarray(np.clip(0.5 - mask.border_px - distance, 0, 1), np.float32)


def _own_places(figure: Figure, width: int, height: int) -> tuple[Floats, Floats]:
    """The middles of pixels in the figure's own axes, from its middle."""
    x = np.arange(width, dtype=np.float32)[None, :] + np.float32(0.5 - figure.middle[0])
    y = np.arange(height, dtype=np.float32)[:, None] + np.float32(0.5 - figure.middle[1])
    if figure.turn == 0:
        return np.broadcast_to(x, (height, width)), np.broadcast_to(y, (height, width))
    angle = np.deg2rad(figure.turn)
    c, s = np.float32(np.cos(angle)), np.float32(np.sin(angle))
    return c * x + s * y, c * y - s * x


def _distance(mask: Mask, figure: Figure, x: Floats, y: Floats) -> Floats:
    across, down = figure.width / 2, figure.height / 2
    if mask.shape == "circle":
        return np.asarray(np.hypot(x, y) - min(across, down), np.float32)
    if mask.shape == "ellipse":
        # The first-order distance to an ellipse: f / |gradient f|.
        k = np.hypot(x / across, y / down)
        slope = np.maximum(np.hypot(x / across**2, y / down**2), 1e-6)
        return np.asarray(k * (k - 1) / slope, np.float32)
    radius = min(mask.radius_px, across, down)
    px, py = np.abs(x) - (across - radius), np.abs(y) - (down - radius)
    outside = np.hypot(np.maximum(px, 0), np.maximum(py, 0))
    return np.asarray(outside + np.minimum(np.maximum(px, py), 0) - radius, np.float32)


def _picture_coverage(
    mask: Mask, figure: Figure, region: Box, still: Plane | None
) -> tuple[Floats, Floats | None]:
    """White is seen; outside the fitted picture nothing is."""
    upright = still_in_box(still, round(figure.width), round(figure.height))
    if mask.soft_px > 1:
        upright = np.asarray(cv2.GaussianBlur(upright, (0, 0), mask.soft_px / 3), np.float32)
    outer = _turned_into(upright, figure, region)
    if not mask.border_px:
        return outer, None
    seen = (upright > 0.5).astype(np.uint8)
    seen = np.pad(seen, 1)
    depth = cv2.distanceTransform(seen, cv2.DIST_L2, cv2.DIST_MASK_PRECISE)[1:-1, 1:-1]
    inner = np.clip(depth - mask.border_px, 0, 1).astype(np.float32)
    return outer, _turned_into(inner, figure, region)


def still_in_box(still: Plane | None, width: int, height: int) -> Floats:
    """A mask's picture fitted into a box, (height, width) from 0 to 1; without one all is seen."""
    if still is None:
        return np.ones((height, width), np.float32)
    rows, columns = still.shape
    room = fit_inside(columns, rows, Box(0, 0, max(width, 2), max(height, 2)))
    shrinks = room.width < columns
    method = cv2.INTER_AREA if shrinks else cv2.INTER_LINEAR
    fitted = cv2.resize(still, (room.width, room.height), interpolation=method)
    out = np.zeros((max(height, 2), max(width, 2)), np.float32)
    out[room.top : room.bottom, room.left : room.right] = fitted / np.float32(255)
    return out[:height, :width]


def _turned_into(upright: Floats, figure: Figure, region: Box) -> Floats:
    placed = figure.moved(-region.left, -region.top)
    x, y = _own_places(placed, region.width, region.height)
    rows, columns = upright.shape
    map_x = np.asarray((x + figure.width / 2) * (columns / figure.width) - 0.5, np.float32)
    map_y = np.asarray((y + figure.height / 2) * (rows / figure.height) - 0.5, np.float32)
    return np.asarray(
        cv2.remap(upright, map_x, map_y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT),
        np.float32,
    )


def shadow(mask: Mask, figure: Figure, region: Box, still: Plane | None = None) -> Floats:
    """How much a layer's shadow darkens the pixels of a region, 0 to 1."""
    spread = mask.shadow_px
    above = Box(
        region.left - 2 * spread,
        region.top - 2 * spread - spread // 2,
        region.width + 4 * spread,
        region.height + 4 * spread,
    )
    outer, _ = coverage(mask, figure, above, still)
    blurred = cv2.GaussianBlur(outer, (0, 0), max(spread / 2, 0.5))
    inside = blurred[2 * spread : -2 * spread, 2 * spread : -2 * spread]
    return np.asarray(inside * np.float32(mask.shadow_percent / 100), np.float32)
