"""Draws the desk webcam's picture: Odile at her bench, talking, with a bone folder.

Places are in px of 1280 × 720; other modes draw the same, scaled.
"""

from collections import defaultdict
from collections.abc import Callable
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
from kettle_studio.canvas import FramePool
from kettle_studio.kept import kept
from kettle_studio.sounds import mouth_at
from kettle_studio.sprites import Sprite, lay_sprite, make_sprite

WIDTH, HEIGHT = 1280, 720
SKIN, HAIR, LIP, CLOTH = (224, 176, 144), (74, 50, 38), (158, 78, 70), (62, 104, 96)
WALL, SHELF, DESK, PAPER = (184, 166, 146), (142, 104, 74), (120, 84, 58), (200, 194, 178)
HEAD_CENTRE = (640, 300)
# A plain cloth that can hang behind her, evenly lit.
CLOTH_RGB = (58, 168, 84)
PAPER_BOX = (440, 596, 130, 56)
# Everything that moves stays within these boxes; the rest of the picture is only noise.
HEAD_BOX = (452, 76, 376, 456)
HAND_BOX = (432, 380, 320, 288)
NOISES = 3
NOISE_SIGMA = 2.4


def _yuv(rgb: tuple[int, int, int]) -> tuple[int, int, int]:
    pixel = rgb_to_picture(np.full((2, 2, 3), rgb, np.uint8))
    return int(pixel.y[0, 0]), int(pixel.u[0, 0]), int(pixel.v[0, 0])


@lru_cache(maxsize=2)
def _room(cloth: bool) -> Image.Image:
    image = Image.new("RGB", (WIDTH, HEIGHT), CLOTH_RGB if cloth else WALL)
    draw = ImageDraw.Draw(image)
    if not cloth:
        _draw_wall(draw)
    _draw_body(image)
    draw.rectangle((0, 636, WIDTH, HEIGHT), fill=DESK)
    draw.rectangle((0, 636, WIDTH, 640), fill=(150, 108, 76))
    left, top, width, height = PAPER_BOX
    draw.polygon(
        [
            (left + 14, top),
            (left + width - 14, top),
            (left + width, top + height),
            (left, top + height),
        ],
        fill=PAPER,
    )
    return image


def _draw_wall(draw: ImageDraw.ImageDraw) -> None:
    for y in (150, 330):
        draw.rectangle((60, y, 420, y + 14), fill=SHELF)
        for index, x in enumerate(range(76, 400, 30)):
            height = 70 + (index * 37 + y) % 50
            colour = ((150, 70, 52), (62, 96, 104), (206, 192, 160), (92, 74, 98))[index % 4]
            draw.rectangle((x, y - height, x + 22, y), fill=colour)
    draw.rectangle((960, 70, 1200, 330), fill=(222, 226, 220), outline=SHELF, width=12)
    draw.line((1080, 76, 1080, 326), fill=SHELF, width=8)


def _draw_body(image: Image.Image) -> None:
    """Shoulders and neck, soft by drawing large."""
    scale = 2
    body = Image.new("RGBA", (WIDTH * scale, HEIGHT * scale), (0, 0, 0, 0))
    pen = ImageDraw.Draw(body)
    pen.rounded_rectangle((780, 880, 1780, 1600), radius=240, fill=(*CLOTH, 255))
    pen.rectangle((1180, 760, 1380, 960), fill=(206, 158, 128, 255))
    pen.ellipse((1160, 860, 1400, 1000), fill=(206, 158, 128, 255))
    body = body.resize((WIDTH, HEIGHT), Image.Resampling.LANCZOS)
    image.paste(body, (0, 0), body)


def _sized(image: Image.Image, left: int, top: int, height: int) -> Sprite:
    """A part drawn at twice the home size as a sprite of a mode's height."""
    scale = height / HEIGHT
    width, rows = (round(v / 2 * scale / 2) * 2 for v in image.size)
    drawn = image.resize((width, rows), Image.Resampling.LANCZOS)
    return make_sprite(drawn, round(left * scale), round(top * scale))


@lru_cache(maxsize=3)
def _head(rows: int) -> Sprite:
    scale, width, height = 2, 340, 420
    image = Image.new("RGBA", (width * scale, height * scale), (*SKIN, 0))
    pen = ImageDraw.Draw(image)

    def oval(x: float, y: float, rx: float, ry: float, fill: tuple[int, int, int]) -> None:
        box = ((x - rx) * scale, (y - ry) * scale, (x + rx) * scale, (y + ry) * scale)
        pen.ellipse(box, fill=(*fill, 255))

    oval(170, 180, 142, 160, HAIR)
    oval(60, 250, 40, 90, HAIR)
    oval(280, 250, 40, 90, HAIR)
    oval(170, 210, 112, 142, SKIN)
    pen.pieslice((52 * scale, 40 * scale, 288 * scale, 240 * scale), 180, 360, fill=(*HAIR, 255))
    for x in (128, 212):
        oval(x, 196, 15, 11, (250, 248, 244))
        oval(x, 196, 8, 9, (52, 40, 34))
        pen.arc(
            ((x - 24) * scale, 158 * scale, (x + 24) * scale, 192 * scale),
            200,
            340,
            fill=HAIR,
            width=8,
        )
    pen.line([(170 * scale, 205 * scale), (160 * scale, 246 * scale), (176 * scale, 248 * scale)],
             fill=(196, 144, 114, 255), width=7)  # fmt: skip
    return _sized(image, HEAD_CENTRE[0] - 170, HEAD_CENTRE[1] - 210, rows)


@lru_cache(maxsize=3)
def _hand(rows: int) -> Sprite:
    scale, width, height = 2, 220, 180
    image = Image.new("RGBA", (width * scale, height * scale), (*SKIN, 0))
    pen = ImageDraw.Draw(image)
    pen.line(
        [(20 * scale, 150 * scale), (130 * scale, 60 * scale)], fill=(238, 228, 204, 255), width=28
    )
    pen.rounded_rectangle((180, 60, 400, 220), radius=80, fill=(*SKIN, 255))
    pen.rounded_rectangle((300, 120, 440, 360), radius=40, fill=(*CLOTH, 255))
    return _sized(image, 520, 480, rows)


def _oval(
    frame: Picture,
    centre: tuple[float, float],
    axes: tuple[float, float],
    rgb: tuple[int, int, int],
) -> None:
    for plane, value, part in zip((frame.y, frame.u, frame.v), _yuv(rgb), (1, 2, 2), strict=True):
        middle = tuple(round(c / part * 16) for c in centre)
        size = tuple(max(1, round(a / part * 16)) for a in axes)
        cv2.ellipse(plane, middle, size, 0, 0, 360, value, -1, cv2.LINE_AA, 4)


@kept
def _noises(height: int, cloth: bool) -> Plane:
    """The room with different sensor noise, (NOISES, rows * 3 / 2, columns)."""
    scale = height / HEIGHT
    size = (round(WIDTH * scale), height)
    room = _room(cloth).resize(size, Image.Resampling.LANCZOS)
    flat = picture_to_i420(rgb_to_picture(np.asarray(room)))
    rng = np.random.default_rng(5)
    made = []
    for _ in range(NOISES):
        buffer = flat.copy()
        _add_noise(picture_from_i420(buffer).y, _grain(rng, height, size[0]))
        made.append(buffer)
    return np.stack(made)


def _grain(rng: np.random.Generator, rows: int, columns: int) -> NDArray[np.int16]:
    return np.rint(rng.normal(0, NOISE_SIGMA, (rows, columns))).astype(np.int16)


def _add_noise(luma: Plane, noise: NDArray[np.int16]) -> None:
    cv2.add(luma, noise, dst=luma, dtype=cv2.CV_8U)


@kept
def _head_noise(height: int) -> NDArray[np.int16]:
    return _grain(np.random.default_rng(6), height, height)


class PresenterPainter:
    """Draws Odile at one height in px, upside down where the webcam is mounted so.

    `cloth` says whether a plain cloth hangs behind her.
    """

    def __init__(
        self, height: int, upside_down: bool = False, cloth: Callable[[], bool] = lambda: False
    ) -> None:
        self._height = height
        self._scale = height / HEIGHT
        self._upside_down = upside_down
        self._cloth = cloth
        # For each room, with the cloth or without, and each noise.
        self._pools: defaultdict[tuple[bool, int], FramePool] = defaultdict(FramePool)

    def _turned(self, buffer: Plane) -> Plane:
        if not self._upside_down:
            return buffer.copy()
        room = picture_from_i420(buffer)
        return picture_to_i420(Picture(*(p[::-1, ::-1] for p in (room.y, room.u, room.v))))

    def draw(self, world_s: float, frame_no: int) -> Plane:
        """One frame as an I420 buffer that nobody else holds, with sensor noise."""
        number, cloth = frame_no % NOISES, self._cloth()
        room_buffer = _noises(self._height, cloth)[number]
        buffer = self._pools[cloth, number].take(lambda: self._turned(room_buffer))
        room = picture_from_i420(room_buffer)
        frame = picture_from_i420(buffer)
        if self._upside_down:
            frame = Picture(*(p[::-1, ::-1] for p in (frame.y, frame.u, frame.v)))
        # Head and hand overlap, so they are drawn on one patch.
        left = min(HEAD_BOX[0], HAND_BOX[0])
        top = min(HEAD_BOX[1], HAND_BOX[1])
        right = max(HEAD_BOX[0] + HEAD_BOX[2], HAND_BOX[0] + HAND_BOX[2])
        bottom = max(HEAD_BOX[1] + HEAD_BOX[3], HAND_BOX[1] + HAND_BOX[3])
        box = tuple(round(v * self._scale / 2) * 2 for v in (left, top, right, bottom))
        patch = Picture(*(p.copy() for p in _cut(room, box)))
        self._draw_moving(patch, box[0], box[1], world_s, frame_no)
        for target, drawn in zip(_cut(frame, box), (patch.y, patch.u, patch.v), strict=True):
            target[:] = drawn
        return buffer

    def _draw_moving(
        self, patch: Picture, left: int, top: int, world_s: float, frame_no: int
    ) -> None:
        """Draw on a patch whose corner lies at `left`, `top` of the frame."""
        scale = self._scale
        height, glint = world.knock_at(world_s)
        if glint:
            paper_x, paper_y, width, rows = (round(v * scale) for v in PAPER_BOX)
            edge, row = round(14 * scale), paper_y - top
            columns = slice(paper_x - left + edge, paper_x - left + width - edge)
            area = patch.y[row : row + rows, columns]
            area[:] = cv2.add(area, np.full(area.shape, round(38 * glint), np.uint8))
        dx, dy = world.head_at(world_s)
        lay_sprite(patch, _head(self._height), dx * scale - left, dy * scale - top)
        x, y = (HEAD_CENTRE[0] + dx) * scale - left, (HEAD_CENTRE[1] + dy) * scale - top
        opening = mouth_at(world_s)
        mouth = (x, y + 76 * scale)
        _oval(patch, mouth, ((36 - 8 * opening) * scale, (6 + 20 * opening) * scale), LIP)
        inside = ((28 - 8 * opening) * scale, (1 + 15 * opening) * scale)
        _oval(patch, mouth, inside, (92, 34, 34))
        if world.blink_at(world_s):
            for eye in (-42, 42):
                _oval(patch, (x + eye * scale, y - 14 * scale), (17 * scale, 12 * scale), SKIN)
        lay_sprite(patch, _hand(self._height), -left, -70 * height * scale - top)
        # The head moves over the room's noise and brings its own.
        across, down = (round(v * scale) for v in HEAD_BOX[2:])
        row = (frame_no * 37) % (self._height - down)
        column = (frame_no * 23 + frame_no // 7) % (self._height - across)
        noise = _head_noise(self._height)[row : row + down, column : column + across]
        x0, y0 = round(HEAD_BOX[0] * scale) - left, round(HEAD_BOX[1] * scale) - top
        area = np.ascontiguousarray(patch.y[y0 : y0 + down, x0 : x0 + across])
        _add_noise(area, noise[: area.shape[0], : area.shape[1]])
        patch.y[y0 : y0 + down, x0 : x0 + across] = area


def _cut(picture: Picture, box: tuple[int, ...]) -> tuple[Plane, Plane, Plane]:
    left, top, right, bottom = box
    half = np.s_[top // 2 : bottom // 2, left // 2 : right // 2]
    return picture.y[top:bottom, left:right], picture.u[half], picture.v[half]
