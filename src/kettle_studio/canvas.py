"""Frame buffers that are drawn on again once nobody holds them, and what is drawn with often."""

import sys
from collections.abc import Callable, Hashable
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFont

from kettle_core.picture.picture import (
    Picture,
    Plane,
    blend_plane,
    paste,
    picture_from_i420,
    rgb_to_picture,
)

FONT = str(Path(__file__).parent / "assets" / "figtree.woff2")
POINTER_PX = 36
SPARE_BUFFERS = 1
BAND_ROWS = 120
CONTENTS_KEPT = 1
Rgb = tuple[int, int, int]


@lru_cache(maxsize=48)
def font(size: int, weight: int = 500) -> ImageFont.FreeTypeFont:
    """Figtree at a size in px and a weight."""
    found = ImageFont.truetype(FONT, size)
    found.set_variation_by_axes([weight])
    return found


def image_to_picture(image: Image.Image) -> Picture:
    """A Pillow image of even size as planes."""
    return rgb_to_picture(np.asarray(image.convert("RGB")))


def image_to_i420(image: Image.Image) -> Plane:
    """A Pillow image of even size as an I420 buffer.

    In bands, as what Pillow makes in between is several times as large.
    """
    buffer = np.empty((image.height * 3 // 2, image.width), np.uint8)
    made = picture_from_i420(buffer)
    for top in range(0, image.height, BAND_ROWS):
        below = min(top + BAND_ROWS, image.height)
        paste(made, image_to_picture(image.crop((0, top, image.width, below))), 0, top)
    return buffer


class FramePool:
    """Gives buffers that nobody else holds, with the number under which they were made.

    A consumer keeps a frame by keeping a reference to it or to a view of it; once all are
    gone the buffer is given out again, as it was left.
    """

    def __init__(self) -> None:
        self._buffers: list[Plane] = []

    def take(self, make: Callable[[], Plane]) -> Plane:
        """A free buffer, one that is made if there is none; spare ones are let go."""
        # References: the list's and the one of the call.
        free = [n for n in range(len(self._buffers)) if sys.getrefcount(self._buffers[n]) == 2]
        for n in reversed(free[SPARE_BUFFERS:]):
            del self._buffers[n]
        if not free:
            self._buffers.append(make())
            return self._buffers[-1]
        return self._buffers[free[0]]


@lru_cache(maxsize=1)
def _pointer() -> tuple[Picture, NDArray[np.uint16], NDArray[np.uint16]]:
    scale, size = 8, POINTER_PX
    shape = [(3, 2), (3, 27), (9, 21), (14, 32), (18, 30), (13, 19), (22, 19)]
    large = Image.new("RGB", (size * scale,) * 2, (255, 255, 255))
    mask = Image.new("L", large.size, 0)
    points = [(x * scale, y * scale) for x, y in shape]
    ImageDraw.Draw(mask).polygon(points, fill=255)
    ImageDraw.Draw(mask).line([*points, points[0]], fill=255, width=2 * scale)
    ImageDraw.Draw(large).polygon(points, fill=(24, 30, 34))
    coverage = np.asarray(mask.resize((size, size), Image.Resampling.BOX), np.uint16)
    coverage = (coverage * 256 + 127) // 255
    half = coverage.reshape(size // 2, 2, size // 2, 2).mean(axis=(1, 3)).astype(np.uint16)
    return image_to_picture(large.resize((size, size), Image.Resampling.BOX)), coverage, half


@lru_cache(maxsize=1)
def _touch() -> tuple[Picture, NDArray[np.uint16], NDArray[np.uint16]]:
    size = POINTER_PX * 2
    x = np.arange(size) + 0.5 - size / 2
    radius = np.hypot(x[None, :], x[:, None])
    coverage = np.clip((size / 2 - 1 - radius) / 2, 0, 1) * 150
    half = coverage.reshape(size // 2, 2, size // 2, 2).mean(axis=(1, 3))
    sprite = image_to_picture(Image.new("RGB", (size, size), (255, 255, 255)))
    return sprite, coverage.astype(np.uint16), half.astype(np.uint16)


@dataclass
class _Left:
    """What a buffer shows: its content and where a sprite lies on it."""

    content: Hashable
    box: tuple[int, int, int, int] | None


class ScreenPainter:
    """Draws a screen: its content, drawn anew when its key changes, and a pointer or touch."""

    def __init__(self, content: Callable[..., Plane], touch: bool = False) -> None:
        self._content = lru_cache(maxsize=CONTENTS_KEPT)(content)
        self._sprite = _touch if touch else _pointer
        self._pool = FramePool()
        self._left: dict[int, _Left] = {}

    def draw(self, key: Hashable, at: tuple[int, int] | None) -> Plane:
        """One frame as an I420 buffer that nobody else holds."""
        content = self._content(key)
        buffer = self._pool.take(lambda: self._new(content))
        left = self._left.get(id(buffer))
        if left is None or left.content != key:
            buffer[:] = content
        elif left.box:
            self._put_back(buffer, content, left.box)
        box = self._draw_sprite(picture_from_i420(buffer), *at) if at else None
        self._left[id(buffer)] = _Left(key, box)
        return buffer

    def _new(self, content: Plane) -> Plane:
        buffer = np.empty_like(content)
        # Its place in memory may have been another buffer's.
        self._left.pop(id(buffer), None)
        return buffer

    @staticmethod
    def _put_back(buffer: Plane, content: Plane, box: tuple[int, int, int, int]) -> None:
        to, source = picture_from_i420(buffer), picture_from_i420(content)
        for target, plane, part in (
            (to.y, source.y, 1),
            (to.u, source.u, 2),
            (to.v, source.v, 2),
        ):
            left, top, right, bottom = (v // part for v in box)
            target[top:bottom, left:right] = plane[top:bottom, left:right]

    def _draw_sprite(self, frame: Picture, x: int, y: int) -> tuple[int, int, int, int]:
        sprite, luma, chroma = self._sprite()
        lead = 2 if self._sprite is _pointer else sprite.width // 2
        left, top = max(0, (x - lead) // 2 * 2), max(0, (y - lead) // 2 * 2)
        width = max(0, min(sprite.width, frame.width - left))
        height = max(0, min(sprite.height, frame.height - top))
        rows, columns = slice(top, top + height), slice(left, left + width)
        blend_plane(frame.y[rows, columns], sprite.y[:height, :width], luma[:height, :width])
        rows = slice(top // 2, (top + height) // 2)
        columns = slice(left // 2, (left + width) // 2)
        half = (slice(0, height // 2), slice(0, width // 2))
        blend_plane(frame.u[rows, columns], sprite.u[half], chroma[half])
        blend_plane(frame.v[rows, columns], sprite.v[half], chroma[half])
        return left, top, left + width, top + height
