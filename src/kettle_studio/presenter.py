"""Draws the desk webcam's picture: Odile at her bench, talking, with a bone folder."""

from dataclasses import dataclass
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw

from kettle_core.picture import Picture, Plane, blend_plane, picture_from_i420, rgb_to_picture
from kettle_studio import world
from kettle_studio.sounds import mouth_at

WIDTH, HEIGHT = 1280, 720
SKIN, HAIR, LIP, CLOTH = (224, 176, 144), (74, 50, 38), (158, 78, 70), (62, 104, 96)
WALL, SHELF, DESK, PAPER = (184, 166, 146), (142, 104, 74), (120, 84, 58), (200, 194, 178)
HEAD_CENTRE = (640, 300)
PAPER_BOX = (440, 596, 130, 56)
NOISE_TILES, NOISE_MARGIN = 4, 64


@dataclass(frozen=True)
class Sprite:
    """A drawn part with its coverage (0 to 1, float32) and its place."""

    y: NDArray[np.float32]
    u: NDArray[np.float32]
    v: NDArray[np.float32]
    luma: NDArray[np.float32]
    chroma: NDArray[np.float32]
    left: int
    top: int


def _yuv(rgb: tuple[int, int, int]) -> tuple[int, int, int]:
    pixel = rgb_to_picture(np.full((2, 2, 3), rgb, np.uint8))
    return int(pixel.y[0, 0]), int(pixel.u[0, 0]), int(pixel.v[0, 0])


@lru_cache(maxsize=1)
def _room() -> Plane:
    image = Image.new("RGB", (WIDTH, HEIGHT), WALL)
    draw = ImageDraw.Draw(image)
    for y in (150, 330):
        draw.rectangle((60, y, 420, y + 14), fill=SHELF)
        for index, x in enumerate(range(76, 400, 30)):
            height = 70 + (index * 37 + y) % 50
            colour = ((150, 70, 52), (62, 96, 104), (206, 192, 160), (92, 74, 98))[index % 4]
            draw.rectangle((x, y - height, x + 22, y), fill=colour)
    draw.rectangle((960, 70, 1200, 330), fill=(222, 226, 220), outline=SHELF, width=12)
    draw.line((1080, 76, 1080, 326), fill=SHELF, width=8)
    # shoulders and neck, soft by drawing large
    scale = 2
    body = Image.new("RGBA", (WIDTH * scale, HEIGHT * scale), (0, 0, 0, 0))
    pen = ImageDraw.Draw(body)
    pen.rounded_rectangle((780, 880, 1780, 1600), radius=240, fill=(*CLOTH, 255))
    pen.rectangle((1180, 760, 1380, 960), fill=(206, 158, 128, 255))
    pen.ellipse((1160, 860, 1400, 1000), fill=(206, 158, 128, 255))
    body = body.resize((WIDTH, HEIGHT), Image.Resampling.LANCZOS)
    image.paste(body, (0, 0), body)
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
    picture = rgb_to_picture(np.asarray(image))
    flat = np.concatenate([p.reshape(-1) for p in (picture.y, picture.u, picture.v)])
    return flat.reshape(HEIGHT * 3 // 2, WIDTH)


def _sprite(image: Image.Image, left: int, top: int) -> Sprite:
    rgba = np.asarray(image)
    picture = rgb_to_picture(np.ascontiguousarray(rgba[..., :3]))
    cover = rgba[..., 3].astype(np.float32) / np.float32(255)
    rows, columns = cover.shape
    half = cover.reshape(rows // 2, 2, columns // 2, 2).mean(axis=(1, 3))
    y, u, v = (p.astype(np.float32) for p in (picture.y, picture.u, picture.v))
    return Sprite(y, u, v, cover, half.astype(np.float32), left, top)


@lru_cache(maxsize=1)
def _head() -> Sprite:
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
    image = image.resize((width, height), Image.Resampling.LANCZOS)
    return _sprite(image, HEAD_CENTRE[0] - 170, HEAD_CENTRE[1] - 210)


@lru_cache(maxsize=1)
def _hand() -> Sprite:
    scale, width, height = 2, 220, 180
    image = Image.new("RGBA", (width * scale, height * scale), (*SKIN, 0))
    pen = ImageDraw.Draw(image)
    pen.line(
        [(20 * scale, 150 * scale), (130 * scale, 60 * scale)], fill=(238, 228, 204, 255), width=28
    )
    pen.rounded_rectangle((180, 60, 400, 220), radius=80, fill=(*SKIN, 255))
    pen.rounded_rectangle((300, 120, 440, 360), radius=40, fill=(*CLOTH, 255))
    image = image.resize((width, height), Image.Resampling.LANCZOS)
    return _sprite(image, 520, 480)


def _lay(frame: Picture, sprite: Sprite, dx: float, dy: float) -> None:
    """Blend a sprite at a place between pixels."""
    left = int(np.floor((sprite.left + dx) / 2)) * 2
    top = int(np.floor((sprite.top + dy) / 2)) * 2
    over_x, over_y = sprite.left + dx - left, sprite.top + dy - top
    parts = ((frame.y, sprite.y, sprite.luma, 1), (frame.u, sprite.u, sprite.chroma, 2))
    for target, source, cover, part in (*parts, (frame.v, sprite.v, sprite.chroma, 2)):
        rows, columns = source.shape
        shift = np.array([[1, 0, over_x / part], [0, 1, over_y / part]], np.float32)
        moved = cv2.warpAffine(source, shift, (columns, rows), borderMode=cv2.BORDER_REPLICATE)
        alpha = cv2.warpAffine(cover, shift, (columns, rows))
        area = target[top // part : top // part + rows, left // part : left // part + columns]
        rows, columns = area.shape
        blend_plane(
            area,
            moved[:rows, :columns].astype(np.uint8),
            (alpha[:rows, :columns] * 256).astype(np.uint16),
        )


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


@lru_cache(maxsize=1)
def _noise() -> NDArray[np.int16]:
    rng = np.random.default_rng(5)
    shape = (HEIGHT + NOISE_MARGIN, WIDTH + NOISE_MARGIN)
    return np.rint(rng.normal(0, 2.4, shape)).astype(np.int16)


def draw_presenter(world_s: float, frame_no: int) -> Plane:
    """One frame of the webcam as a new I420 buffer (1080, 1280), with sensor noise."""
    buffer = _room().copy()
    frame = picture_from_i420(buffer)
    height, glint = world.knock_at(world_s)
    if glint:
        left, top, width, rows = PAPER_BOX
        area = frame.y[top : top + rows, left + 14 : left + width - 14]
        area[:] = cv2.add(area, np.full(area.shape, round(38 * glint), np.uint8))
    dx, dy = world.head_at(world_s)
    _lay(frame, _head(), dx, dy)
    x, y = HEAD_CENTRE[0] + dx, HEAD_CENTRE[1] + dy
    opening = mouth_at(world_s)
    _oval(frame, (x, y + 76), (36 - 8 * opening, 6 + 20 * opening), LIP)
    _oval(frame, (x, y + 76), (28 - 8 * opening, 1 + 15 * opening), (92, 34, 34))
    if world.blink_at(world_s):
        for eye in (-42, 42):
            _oval(frame, (x + eye, y - 14), (17, 12), SKIN)
    _lay(frame, _hand(), 0, -70 * height)
    row, column = (frame_no * 37) % NOISE_MARGIN, (frame_no * 23 + frame_no // 7) % NOISE_MARGIN
    noise = _noise()[row : row + HEIGHT, column : column + WIDTH]
    cv2.add(frame.y, noise, dst=frame.y, dtype=cv2.CV_8U)
    return buffer
