"""Draws the overhead webcam's picture: the bench from above, a hand rubbing a fold."""

from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw

from kettle_core.picture.picture import (
    Picture,
    Plane,
    picture_from_i420,
    picture_to_i420,
    rgb_to_picture,
)
from kettle_studio import world
from kettle_studio.canvas import FramePool, font
from kettle_studio.kept import kept
from kettle_studio.sprites import Sprite, lay_sprite, make_sprite

WIDTH, HEIGHT = 1920, 1080
NOISES = 2
# Everything that moves stays within this box.
MOVING = (600, 180, 900, 820)
HAND_HOME = (720, 210)
HAND_REACH = (420, 320)


def _scaled(box: tuple[int, ...], scale: float) -> tuple[int, ...]:
    return tuple(round(v * scale / 2) * 2 for v in box)


def _background(height: int) -> NDArray[np.uint8]:
    scale = height / HEIGHT
    width = round(WIDTH * scale)
    rng = np.random.default_rng(21)
    grain = rng.normal(0, 1, (height // 2, 96)).astype(np.float32)
    veins = cv2.resize(cv2.GaussianBlur(grain, (0, 0), 3), (width, height))
    wood = np.array([138, 98, 66], np.float32) + veins[..., None] * 26
    image = Image.fromarray(np.clip(wood, 0, 255).astype(np.uint8))
    draw = ImageDraw.Draw(image)

    def box(*values: float) -> tuple[float, ...]:
        return tuple(v * scale for v in values)

    draw.polygon(box(470, 120, 1500, 96, 1524, 960, 448, 984), fill=(246, 243, 234))
    draw.line(box(985, 108, 985, 972), fill=(206, 196, 176), width=round(5 * scale))
    draw.line(box(459, 552, 1512, 528), fill=(206, 196, 176), width=round(5 * scale))
    numbers = ((700, 330, "5"), (1240, 320, "12"), (700, 760, "4"), (1240, 750, "13"))
    for x, y, text in numbers:
        face = font(round(120 * scale), 700)
        draw.text((x * scale, y * scale), text, font=face, fill=(66, 78, 84), anchor="mm")
        for line in range(3):
            draw.rectangle(
                box(x - 130, y + 90 + line * 24, x + 130, y + 98 + line * 24), fill=(222, 216, 202)
            )
    draw.ellipse(box(110, 140, 330, 360), fill=(176, 60, 50))
    draw.ellipse(box(180, 210, 260, 290), fill=(236, 226, 206))
    draw.rounded_rectangle(box(150, 520, 190, 940), round(20 * scale), fill=(86, 60, 44))
    draw.line(box(170, 460, 170, 520), fill=(180, 184, 188), width=round(12 * scale))
    draw.rectangle(box(1620, 200, 1690, 900), fill=(196, 186, 150))
    for mark in range(36):
        y = 210 + mark * 19
        draw.line(box(1620, y, 1650 if mark % 5 else 1666, y), fill=(90, 80, 60), width=2)
    return np.asarray(image)


@kept
def _backgrounds(height: int) -> Plane:
    """The bench with different sensor noise, (NOISES, rows * 3 / 2, columns)."""
    flat = picture_to_i420(rgb_to_picture(_background(height)))
    rng = np.random.default_rng(22)
    made = []
    for _ in range(NOISES):
        buffer = flat.copy()
        luma = picture_from_i420(buffer).y
        noise = np.rint(rng.normal(0, 1.6, luma.shape)).astype(np.int16)
        cv2.add(luma, noise, dst=luma, dtype=cv2.CV_8U)
        made.append(buffer)
    return np.stack(made)


@lru_cache(maxsize=2)
def _hand(height: int) -> Sprite:
    scale = height / HEIGHT
    image = Image.new("RGBA", (round(360 * scale) // 2 * 2, round(460 * scale) // 2 * 2), 0)
    draw = ImageDraw.Draw(image)

    def box(*values: float) -> tuple[float, ...]:
        return tuple(v * scale for v in values)

    skin, cloth = (222, 172, 140, 255), (62, 104, 96, 255)
    draw.line(box(28, 30, 150, 170), fill=(240, 232, 210, 255), width=round(30 * scale))
    draw.rounded_rectangle(box(96, 110, 262, 270), round(70 * scale), fill=skin)
    for finger in range(4):
        draw.rounded_rectangle(
            box(70 + finger * 36, 84 + finger * 8, 104 + finger * 36, 200), round(17 * scale), skin
        )
    draw.polygon(box(150, 250, 268, 220, 356, 460, 226, 460), fill=cloth)
    left, top = (round(v * scale) for v in HAND_HOME)
    return make_sprite(image, left, top)


class BenchPainter:
    """Draws the bench at one height in px; 1080 is its home."""

    def __init__(self, height: int) -> None:
        self._height = height
        self._pools = [FramePool() for _ in range(NOISES)]

    def draw(self, world_s: float, frame_no: int) -> Plane:
        """One frame as an I420 buffer (rows * 3 / 2, columns) that nobody else holds."""
        scale = self._height / HEIGHT
        number = frame_no % NOISES
        background_buffer = _backgrounds(self._height)[number]
        background = picture_from_i420(background_buffer)
        buffer = self._pools[number].take(background_buffer.copy)
        frame = picture_from_i420(buffer)
        left, top, width, height = _scaled(MOVING, scale)
        for target, source, part in _planes(frame, background):
            rows = slice(top // part, (top + height) // part)
            columns = slice(left // part, (left + width) // part)
            target[rows, columns] = source[rows, columns]
        along, down = world.hand_at(world_s)
        dx, dy = along * HAND_REACH[0] * scale, down * HAND_REACH[1] * scale
        lay_sprite(frame, _hand(self._height), dx, dy)
        return buffer


def _planes(frame: Picture, source: Picture) -> tuple[tuple[Plane, Plane, int], ...]:
    return (frame.y, source.y, 1), (frame.u, source.u, 2), (frame.v, source.v, 2)
