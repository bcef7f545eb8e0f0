"""Draws Quirefold, an invented program that lays pages out on a printed sheet."""

from functools import lru_cache

import numpy as np
from PIL import Image, ImageDraw

from kettle_core.picture.picture import (
    Picture,
    Plane,
    blend_plane,
    paste,
    picture_from_i420,
    rgb_to_picture,
)
from kettle_studio import script, world
from kettle_studio.canvas import font as _font
from kettle_studio.canvas import image_to_i420, image_to_picture
from kettle_studio.kept import kept

WIDTH, HEIGHT = 1920, 1080
TITLE_PX = 76
DOCUMENTS = ("tide-almanac", "moth-atlas")
BAR, BODY, SIDE = (46, 78, 88), (222, 231, 227), (238, 242, 240)
INK, SOFT, FOLD = (38, 66, 76), (94, 120, 128), (196, 106, 60)
GLOW = (214, 122, 62)
FIELDS = ("Trim", "Fold", "Gutter", "Creep")


@kept
def _base(sheet_no: int, document: str) -> Plane:
    image = Image.new("RGB", (WIDTH, HEIGHT), BODY)
    draw = ImageDraw.Draw(image)
    draw.rectangle((0, 0, WIDTH, 75), fill=BAR)
    draw.text((32, 16), "Quirefold", font=_font(36, 700), fill=(255, 255, 255))
    for place, name in enumerate(DOCUMENTS):
        left, shown = 252 + place * 290, name == document
        if shown:
            draw.rectangle((left, 14, left + 270, 75), fill=SIDE)
        colour = INK if shown else (196, 214, 216)
        draw.text((left + 18, 26), f"{name}.quire", font=_font(24), fill=colour)
    draw.text((1660, 26), "Odile Fernhollow", font=_font(22), fill=(196, 214, 216))
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
    return image_to_i420(image)


def _draw_sewing_plan(draw: ImageDraw.ImageDraw) -> None:
    draw.text((32, 620), "Sewing plan", font=_font(22, 700), fill=INK)
    draw.line((60, 680, 60, 980), fill=SOFT, width=3)
    for index, station in enumerate(("kettle stitch", "tape", "tape", "kettle stitch")):
        y = 700 + index * 84
        draw.ellipse((52, y - 8, 68, y + 8), fill=FOLD)
        draw.text((88, y - 14), f"{18 + index * 62} mm", font=_font(20, 600), fill=INK)
        draw.text((176, y - 12), station, font=_font(18), fill=SOFT)
    draw.text(
        (32, 1004), "Paper 120 g/m², grain long, creep +0.04 mm a leaf", font=_font(13), fill=SOFT
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
    return image_to_picture(image.rotate(180) if step.turned else image)


@lru_cache(maxsize=64)
def _field_text(text: str) -> Picture:
    image = Image.new("RGB", (150, 44), (255, 255, 255))
    ImageDraw.Draw(image).text((144, 8), text, font=_font(24, 600), fill=INK, anchor="ra")
    return image_to_picture(image)


def draw_document(state: world.Desktop, document: str = DOCUMENTS[0]) -> Plane:
    """Quirefold as a new I420 buffer (1620, 1920), without the pointer."""
    buffer = _base(state.sheet_no, document).copy()
    frame = picture_from_i420(buffer)
    for index, step in enumerate(script.STEPS[: state.placed]):
        left, top = world.page_corner(step.column, step.row)
        paste(frame, _page(index), left, top)
    for index, text in enumerate(state.typed):
        left, top = world.field_corner(index)
        paste(frame, _field_text(text), left + 138, top + 10)
    if state.glow:
        _light_up(frame, *state.glow)
    return buffer


def resting_document() -> world.Desktop:
    """The document that lies behind: a whole sheet on which nothing is done."""
    return world.Desktop(
        3, len(script.STEPS), world.POINTER_HOME, None, ("9 mm", "quarto", "5 mm", "0.1 mm")
    )


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
