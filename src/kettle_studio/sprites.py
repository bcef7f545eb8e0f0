"""Drawn parts that move over a picture, pixel by pixel."""

from dataclasses import dataclass, field

import cv2
import numpy as np
from numpy.typing import NDArray
from PIL import Image

from kettle_core.picture.picture import OPAQUE, Picture, rgb_to_picture

Weighted = tuple[NDArray[np.uint16], NDArray[np.uint16]]


@dataclass
class Sprite:
    """Planes with coverage 0 to 1 (float32), a place, and what was worked out of them.

    Chroma is half as fine, so that there are two ways to lie across and two down; each is kept,
    weighted, for good.
    """

    planes: tuple[NDArray[np.float32], ...]
    luma: NDArray[np.float32]
    chroma: NDArray[np.float32]
    left: int
    top: int
    shifted: dict[tuple[int, int], tuple[Weighted, ...]] = field(default_factory=dict)


def make_sprite(image: Image.Image, left: int, top: int) -> Sprite:
    """A sprite of an RGBA image of even size, with the place of its upper left corner."""
    rgba = np.asarray(image)
    picture = rgb_to_picture(np.ascontiguousarray(rgba[..., :3]))
    cover = rgba[..., 3].astype(np.float32) / np.float32(255)
    rows, columns = cover.shape
    half = cover.reshape(rows // 2, 2, columns // 2, 2).mean(axis=(1, 3))
    planes = tuple(p.astype(np.float32) for p in (picture.y, picture.u, picture.v))
    return Sprite(planes, cover, half.astype(np.float32), left, top)


def lay_sprite(frame: Picture, sprite: Sprite, dx: float, dy: float) -> None:
    """Blend a sprite over planes in place, `dx`, `dy` px from its home."""
    # A place is an even pixel and a phase, 0 or 1 px beyond it.
    left, phase_x = divmod(round(sprite.left + dx), 2)
    top, phase_y = divmod(round(sprite.top + dy), 2)
    left, top = 2 * left, 2 * top
    parts = _at_phase(sprite, phase_x, phase_y)
    for target, (weighted, rest), part in zip(
        (frame.y, frame.u, frame.v), parts, (1, 2, 2), strict=True
    ):
        rows, columns = weighted.shape
        area = target[top // part : top // part + rows, left // part : left // part + columns]
        rows, columns = area.shape
        mixed = area * rest[:rows, :columns] + weighted[:rows, :columns]
        np.right_shift(mixed, 8, out=mixed)
        area[:] = mixed


def _at_phase(sprite: Sprite, phase_x: int, phase_y: int) -> tuple[Weighted, ...]:
    key = (phase_x, phase_y)
    if key not in sprite.shifted:
        made = []
        covers = (sprite.luma, sprite.chroma, sprite.chroma)
        for plane, cover, part in zip(sprite.planes, covers, (1, 2, 2), strict=True):
            rows, columns = plane.shape
            over_x, over_y = (phase / part for phase in key)
            shift = np.array([[1, 0, over_x], [0, 1, over_y]], np.float32)
            size = (columns + 2 // part, rows + 2 // part)
            moved = cv2.warpAffine(plane, shift, size, borderMode=cv2.BORDER_REPLICATE)
            alpha = np.rint(cv2.warpAffine(cover, shift, size) * OPAQUE).astype(np.uint16)
            weighted = np.rint(moved).astype(np.uint16) * alpha + OPAQUE // 2
            made.append((weighted, np.uint16(OPAQUE) - alpha))
        sprite.shifted[key] = tuple(made)
    return sprite.shifted[key]
