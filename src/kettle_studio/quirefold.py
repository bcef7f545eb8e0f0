"""Draws the display: Quirefold, an invented program that lays pages out on a printed sheet."""

from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFont

from kettle_core.picture import (
    Picture,
    Plane,
    blend_plane,
    paste,
    picture_from_i420,
    rgb_to_picture,
)
from kettle_studio import script, world

WIDTH, HEIGHT = 1920, 1080
FONT = str(Path(__file__).parent / "assets" / "figtree.woff2")
BAR, BODY, SIDE = (46, 78, 88), (222, 231, 227), (238, 242, 240)
INK, SOFT, FOLD = (38, 66, 76), (94, 120, 128), (196, 106, 60)
GLOW = (214, 122, 62)
FIELDS = ("Trim", "Fold", "Gutter", "Creep")


@lru_cache(maxsize=32)
def _font(size: int, weight: int = 500) -> ImageFont.FreeTypeFont:
    font = ImageFont.truetype(FONT, size)
    font.set_variation_by_axes([weight])
    return font


def _to_picture(image: Image.Image) -> Picture:
    return rgb_to_picture(np.asarray(image.convert("RGB")))


@lru_cache(maxsize=8)
def _base(sheet_no: int) -> Plane:
    image = Image.new("RGB", (WIDTH, HEIGHT), BODY)
    draw = ImageDraw.Draw(image)
    draw.rectangle((0, 0, WIDTH, 75), fill=BAR)
    draw.text((32, 16), "Quirefold", font=_font(36, 700), fill=(255, 255, 255))
    draw.text((252, 24), "tide-almanac.quire", font=_font(26), fill=(196, 214, 216))
    draw.text((1560, 26), "Odile Fernhollow", font=_font(22), fill=(196, 214, 216))
    draw.rectangle((0, 76, world.SIDE_BAR_PX, HEIGHT), fill=SIDE)
    draw.text((32, 112), f"Sheet {sheet_no} of 6", font=_font(30, 700), fill=INK)
    draw.text((32, 156), "16 pages, two sides, folded twice", font=_font(17), fill=SOFT)
    for index, name in enumerate(FIELDS):
        left, top = world.field_corner(index)
        right, bottom = left + world.FIELD_BOX[2], top + world.FIELD_BOX[3]
        draw.rectangle((left, top, right, bottom), fill=(255, 255, 255), outline=(196, 208, 206))
        draw.text((left + 16, top + 18), name, font=_font(22), fill=SOFT)
    _draw_sewing_plan(draw)
    _draw_sheet(draw)
    picture = _to_picture(image)
    return np.concatenate([p.reshape(-1) for p in (picture.y, picture.u, picture.v)]).reshape(
        HEIGHT * 3 // 2, WIDTH
    )


def _draw_sewing_plan(draw: ImageDraw.ImageDraw) -> None:
    draw.text((32, 620), "Sewing plan", font=_font(22, 700), fill=INK)
    draw.line((60, 680, 60, 980), fill=SOFT, width=3)
    for index, station in enumerate(("kettle stitch", "tape", "tape", "kettle stitch")):
        y = 700 + index * 84
        draw.ellipse((52, y - 8, 68, y + 8), fill=FOLD)
        draw.text((88, y - 14), f"{18 + index * 62} mm", font=_font(20, 600), fill=INK)
        draw.text((176, y - 12), station, font=_font(18), fill=SOFT)
    draw.text(
        (32, 1030), "Paper 120 g/m², grain long, creep +0.04 mm a leaf", font=_font(13), fill=SOFT
    )


def _draw_sheet(draw: ImageDraw.ImageDraw) -> None:
    left, top = world.SHEET_ORIGIN
    right = left + 3 * world.PAGE_STEP[0] + world.PAGE_SIZE[0]
    bottom = top + world.PAGE_STEP[1] + world.PAGE_SIZE[1]
    draw.rectangle((left - 40, top - 40, right + 40, bottom + 40), fill=(247, 249, 246))
    draw.text((left - 40, top - 82), "Outer side", font=_font(26, 700), fill=INK)
    draw.text((right - 230, top - 74), "gutter 4.5 · creep 0.3 · trim 3", font=_font(14), fill=SOFT)
    for column in range(4):
        for row in range(2):
            x, y = world.page_corner(column, row)
            box = (x, y, x + world.PAGE_SIZE[0], y + world.PAGE_SIZE[1])
            draw.rectangle(box, outline=(200, 212, 208), width=2)
    middle_x = left + 2 * world.PAGE_STEP[0] - (world.PAGE_STEP[0] - world.PAGE_SIZE[0]) // 2
    middle_y = top + world.PAGE_STEP[1] - (world.PAGE_STEP[1] - world.PAGE_SIZE[1]) // 2
    for start in range(top - 40, bottom + 40, 22):
        draw.line((middle_x, start, middle_x, start + 12), fill=FOLD, width=3)
    for start in range(left - 40, right + 40, 22):
        draw.line((start, middle_y, start + 12, middle_y), fill=FOLD, width=3)


@lru_cache(maxsize=16)
def _page(index: int) -> Picture:
    step = script.STEPS[index]
    width, height = world.PAGE_SIZE
    image = Image.new("RGB", (width, height), (255, 255, 255))
    draw = ImageDraw.Draw(image)
    draw.rectangle((0, 0, width - 1, height - 1), outline=(140, 162, 164), width=2)
    for line in range(7):
        end = width - 30 - (60 if line in (3, 6) else 0)
        draw.rectangle((30, 34 + line * 18, end, 40 + line * 18), fill=(205, 218, 217))
    number = str(step.page)
    draw.text((width / 2, 236), number, font=_font(84, 700), fill=INK, anchor="mm")
    draw.text(
        (30, height - 26), f"tide almanac · leaf {(step.page + 1) // 2}", font=_font(12), fill=SOFT
    )
    return _to_picture(image.rotate(180) if step.turned else image)


@lru_cache(maxsize=64)
def _field_text(text: str) -> Picture:
    image = Image.new("RGB", (150, 44), (255, 255, 255))
    ImageDraw.Draw(image).text((144, 8), text, font=_font(24, 600), fill=INK, anchor="ra")
    return _to_picture(image)


@lru_cache(maxsize=1)
def _pointer() -> tuple[Picture, NDArray[np.uint16], NDArray[np.uint16]]:
    scale, size = 8, 36
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
    return _to_picture(large.resize((size, size), Image.Resampling.BOX)), coverage, half


def draw_desktop(state: world.Desktop) -> Plane:
    """One frame of the display as a new I420 buffer (1620, 1920)."""
    buffer = _base(state.sheet_no).copy()
    frame = picture_from_i420(buffer)
    for index, step in enumerate(script.STEPS[: state.placed]):
        left, top = world.page_corner(step.column, step.row)
        paste(frame, _page(index), left, top)
    for index, text in enumerate(state.typed):
        left, top = world.field_corner(index)
        paste(frame, _field_text(text), left + 138, top + 10)
    if state.glow:
        _light_up(frame, *state.glow)
    _draw_pointer(frame, *state.pointer)
    return buffer


def _light_up(frame: Picture, kind: str, index: int, step: int) -> None:
    if kind == "page":
        place = script.STEPS[index]
        left, top = world.page_corner(place.column, place.row)
        width, height = world.PAGE_SIZE
    else:
        left, top = world.field_corner(index)
        width, height = world.FIELD_BOX[2:]
    colour = rgb_to_picture(np.full((2, 2, 3), GLOW, np.uint8))
    alpha = np.uint16(150 * step // world.GLOW_STEPS)
    for plane, value, part in (
        (frame.y, colour.y, 1),
        (frame.u, colour.u, 2),
        (frame.v, colour.v, 2),
    ):
        area = plane[top // part : (top + height) // part, left // part : (left + width) // part]
        blend_plane(area, np.full_like(area, value[0, 0]), np.full(area.shape, alpha))


def _draw_pointer(frame: Picture, x: int, y: int) -> None:
    sprite, luma, chroma = _pointer()
    left, top = (x - 2) // 2 * 2, (y - 2) // 2 * 2
    width, height = min(36, WIDTH - left), min(36, HEIGHT - top)
    rows, columns = slice(top, top + height), slice(left, left + width)
    blend_plane(frame.y[rows, columns], sprite.y[:height, :width], luma[:height, :width])
    rows, columns = slice(top // 2, (top + height) // 2), slice(left // 2, (left + width) // 2)
    half = (slice(0, height // 2), slice(0, width // 2))
    blend_plane(frame.u[rows, columns], sprite.u[half], chroma[half])
    blend_plane(frame.v[rows, columns], sprite.v[half], chroma[half])
