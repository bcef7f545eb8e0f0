"""Pictures and text cards: uploads made safe, cards drawn, both as planes with coverage."""

import hashlib
import io
import os
import re
import shutil
from collections.abc import Iterable, Mapping
from functools import lru_cache
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw, ImageFont, UnidentifiedImageError

from kettle_core.errors import PictureError
from kettle_core.picture.picture import Picture, Plane, picture_to_rgb, rgb_to_picture
from kettle_core.rig.rig import Card, Input
from kettle_core.scene.scene import Scene
from kettle_media.durable import replace_file
from kettle_media.rig.svg import svg_to_png

ASSETS = Path(__file__).parents[1] / "assets"
FONT_FILES = {
    "figtree": "figtree.woff2",
    "source-serif": "source-serif.woff2",
    "jetbrains-mono": "jetbrains-mono.woff2",
}
MAX_UPLOAD_BYTES = 20_000_000
MAX_SIDE_PX = 7680
MAX_PIXELS = 36_000_000
SVG_SIDE_PX = 1920
FORMATS = {"PNG": "PNG", "JPEG": "JPEG", "WEBP": "WebP"}
# What an SVG could fetch or run; we refuse it instead of trusting a renderer to.
SVG_UNSAFE = re.compile(
    rb"<!DOCTYPE|<!ENTITY|<script|<foreignObject|\son\w+\s*=|@import|"
    rb"(?:href|src)\s*=\s*[\"'](?!#|data:image/(?:png|jpeg))|url\(\s*[\"']?(?!#)",
    re.IGNORECASE,
)
SVG_PLAIN_DOCTYPE = re.compile(rb"<!DOCTYPE\s+svg[^>\[]*>", re.IGNORECASE)
WRONG_FILE = (
    "“{name}” is not a picture that can be used, so nothing was added. "
    "Choose a PNG, JPEG, WebP or SVG file."
)


def picture_to_png(data: bytes, name: str) -> tuple[bytes, int, int]:
    """Read an uploaded picture and write it anew as PNG, without anything else in it.

    What it is is told by its bytes, never by its name.

    Returns
    -------
    bytes of the PNG (RGBA, even sides), width and height in px

    Raises
    ------
    PictureError
        If it is too large, damaged or no picture.
    """
    if len(data) > MAX_UPLOAD_BYTES:
        raise PictureError(
            f"“{name}” has {len(data) / 1e6:.0f} MB and a picture at most "
            f"{MAX_UPLOAD_BYTES / 1e6:.0f} MB, so nothing was added. Make it smaller."
        )
    if b"<svg" in data[:4096].lower():
        data = _svg_to_png(data, name)
    try:
        with Image.open(io.BytesIO(data), formats=list(FORMATS)) as image:
            width, height = image.size
            if max(width, height) > MAX_SIDE_PX or width * height > MAX_PIXELS:
                raise PictureError(
                    f"“{name}” has {width} × {height} px, more than {MAX_SIDE_PX} px a side or "
                    f"{MAX_PIXELS // 10**6} million px, so nothing was added. Make it smaller."
                )
            rgba = _upright(image).convert("RGBA")
    except PictureError:
        raise
    except (UnidentifiedImageError, OSError, SyntaxError, ValueError) as error:
        raise PictureError(WRONG_FILE.format(name=name)) from error
    except Image.DecompressionBombError as error:
        raise PictureError(f"“{name}” is too large, so nothing was added.") from error
    even = Image.new("RGBA", ((rgba.width + 1) // 2 * 2, (rgba.height + 1) // 2 * 2), (0, 0, 0, 0))
    even.paste(rgba, (0, 0))
    return _png(even), even.width, even.height


def _upright(image: Image.Image) -> Image.Image:
    """As the camera was held (EXIF orientation)."""
    from PIL import ImageOps

    return ImageOps.exif_transpose(image)


def _svg_to_png(data: bytes, name: str) -> bytes:
    # Drawing programs write one that only names the standard.
    data = SVG_PLAIN_DOCTYPE.sub(b"", data, count=1)
    if SVG_UNSAFE.search(data):
        raise PictureError(
            f"“{name}” holds a script or fetches something from elsewhere, so it was not added. "
            "Save it as a plain SVG or as PNG."
        )
    try:
        return svg_to_png(data, SVG_SIDE_PX)
    except PictureError as error:
        raise PictureError(WRONG_FILE.format(name=name)) from error


def _png(image: Image.Image) -> bytes:
    out = io.BytesIO()
    image.save(out, "PNG")
    return out.getvalue()


def still_name(png: bytes) -> str:
    """The name of a picture in the library: the SHA-256 of its bytes."""
    return hashlib.sha256(png).hexdigest()


def keep_picture(library: Path, digest: str, png: bytes) -> None:
    """Put a picture's bytes under its name into a library; one that is there stays, as if new."""
    path = library / f"{digest}.png"
    library.mkdir(parents=True, exist_ok=True)
    try:
        os.utime(path)
    except FileNotFoundError:
        replace_file(path, png)


def rgba_to_picture(image: Image.Image) -> Picture:
    """A Pillow image as planes with coverage; None where it is opaque."""
    rgba = np.asarray(image.convert("RGBA"))
    picture = rgb_to_picture(np.ascontiguousarray(rgba[..., :3]))
    cover = np.ascontiguousarray(rgba[..., 3])
    return Picture(picture.y, picture.u, picture.v, None if cover.min() == 255 else cover)


@lru_cache(maxsize=64)
def _font(name: str, size_px: int) -> ImageFont.FreeTypeFont:
    font = ImageFont.truetype(str(ASSETS / FONT_FILES[name]), size_px)
    font.set_variation_by_axes([600])
    return font


def draw_card(card: Card, width: int, height: int) -> Image.Image:
    """A text card: its lines in the middle; a line too long for the card is set smaller."""
    clear = (0, 0, 0, 0)
    image = Image.new("RGBA", (width, height), card.backdrop or clear)
    draw = ImageDraw.Draw(image)
    lines = card.text.splitlines() or [""]
    size = card.size_px
    room = width * 0.92
    while size > 12 and (
        max(draw.textlength(line, font=_font(card.font, size)) for line in lines) > room
        or len(lines) * size * 1.3 > height * 0.96
    ):
        size -= max(1, size // 20)
    font = _font(card.font, size)
    top = height / 2 - (len(lines) - 1) * size * 0.65
    for place, line in enumerate(lines):
        at = (width / 2, top + place * size * 1.3)
        draw.text(at, line, font=font, fill=card.colour, anchor="mm")
    return image


def draw_label(text: str, width: int, height: int) -> Picture:
    """A large label on a dark ground, to tell displays apart."""
    card = Card(text, size_px=max(12, height // 3), backdrop="#6a3b78")
    return rgba_to_picture(draw_card(card, width, height))


def still_image(item: Input, library: Path) -> Image.Image:
    """The picture of a still input at its opacity.

    Raises PictureError if the library has lost its file.
    """
    if item.card:
        return _faded(draw_card(item.card, item.mode.width, item.mode.height), item)
    path = library / f"{item.still}.png"
    try:
        with Image.open(path, formats=["PNG"]) as image:
            return _faded(image.convert("RGBA"), item)
    except (OSError, ValueError) as error:
        raise PictureError(f"The picture of “{item.name}” is not in the library.") from error


def _faded(image: Image.Image, item: Input) -> Image.Image:
    if item.looks.opacity < 100:
        share = item.looks.opacity / 100
        image.putalpha(image.getchannel("A").point(lambda value: round(value * share)))
    return image


def write_stills(items: Mapping[str, Input], library: Path, target: Path) -> list[str]:
    """Put the pictures of still inputs into a take's folder; gives the ids that are missing."""
    target.mkdir(exist_ok=True)
    missing = []
    for name, item in items.items():
        try:
            still_image(item, library).save(target / f"{name}.png", "PNG")
        except PictureError:
            missing.append(name)
    return missing


def write_png(picture: Picture, path: Path) -> None:
    """Write a frame as PNG. Raises PictureError."""
    try:
        Image.fromarray(picture_to_rgb(picture)).save(path, "PNG")
    except OSError as error:
        raise PictureError(f"{path} cannot be written: {error.strerror}.") from error


def png_size(png: bytes) -> tuple[int, int]:
    """Width and height in px of a PNG of the library."""
    with Image.open(io.BytesIO(png), formats=["PNG"]) as image:
        return image.size


def copy_masks(scenes: Iterable[Scene], library: Path, target: Path) -> None:
    """Put the pictures that masks use into a take's folder; one that is missing is left out."""
    for name in mask_names(scenes):
        source = library / f"{name}.png"
        if source.is_file():
            target.mkdir(exist_ok=True)
            shutil.copyfile(source, target / source.name)


def mask_names(scenes: Iterable[Scene]) -> set[str]:
    """Names in the rig's library of the pictures that masks use."""
    return {x.mask.still for s in scenes for x in s.layers if x.mask.shape == "picture"}


def read_still(path: Path) -> Picture | None:
    """A take's still as planes with coverage; None if it is not there."""
    try:
        with Image.open(path, formats=["PNG"]) as image:
            return rgba_to_picture(image)
    except (OSError, ValueError):
        return None


def masks_of(scenes: Iterable[Scene], folder: Path) -> dict[str, Plane]:
    """The pictures that masks use, (rows, columns) from black to white, by their names.

    A picture's own coverage counts: what is clear is black. One that is missing is left out.
    """
    found = {}
    for name in mask_names(scenes):
        try:
            with Image.open(folder / f"{name}.png", formats=["PNG"]) as image:
                rgba = image.convert("RGBA")
                black = Image.new("RGBA", rgba.size, (0, 0, 0, 255))
                grey = Image.alpha_composite(black, rgba).convert("L")
                found[name] = np.ascontiguousarray(np.asarray(grey))
        except (OSError, ValueError):
            continue
    return found
