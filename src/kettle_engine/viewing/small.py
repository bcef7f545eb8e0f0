"""Pictures as small as pages show them."""

from kettle_core.picture.picture import (
    Picture,
    blank_i420,
    crop_picture,
    paste,
    picture_from_i420,
    picture_to_i420,
    scale_picture,
)
from kettle_core.rig.rig import Input
from kettle_core.scene.layout import Box, fit_inside
from kettle_media.rig.stills import draw_label

# A picture this many times larger than shown is thinned out before it is scaled.
COARSE = 2
GROUND_RGB = (231, 226, 214)


def small_picture(picture: Picture, width: int, height: int) -> Picture:
    """A picture fitted into a box; clear parts show the ground."""
    whole = Box(0, 0, picture.width, picture.height)
    box = fit_inside(picture.width, picture.height, Box(0, 0, width, height))
    box = box if box.width < picture.width else whole
    coarse, part = _coarser(picture, whole, picture.width // (COARSE * box.width))
    small = scale_picture(coarse, part, box.width, box.height)
    return small if small.cover is None else _on_ground(small)


def _coarser(picture: Picture, crop: Box, step: int) -> tuple[Picture, Box]:
    """Every `step`th pixel, where there are far more than will be shown."""
    if step < 2:
        return picture, crop
    part = crop_picture(picture, crop)
    planes = (part.y, part.u, part.v)
    cover = None if part.cover is None else part.cover[::step, ::step]
    y, u, v = (p[::step, ::step] for p in planes)
    rows, columns = min(y.shape[0] // 2, u.shape[0]), min(y.shape[1] // 2, u.shape[1])
    small = Picture(
        y[: 2 * rows, : 2 * columns], u[:rows, :columns], v[:rows, :columns],
        None if cover is None else cover[: 2 * rows, : 2 * columns],
    )  # fmt: skip
    return small, Box(0, 0, 2 * columns, 2 * rows)


def _on_ground(picture: Picture) -> Picture:
    ground = picture_from_i420(blank_i420(picture.width, picture.height, GROUND_RGB))
    share = (picture.cover / 255.0) if picture.cover is not None else 1.0
    half = share[::2, ::2]  # type: ignore[index]
    planes = []
    for over, under, alpha in (
        (picture.y, ground.y, share),
        (picture.u, ground.u, half),
        (picture.v, ground.v, half),
    ):
        planes.append((over * alpha + under * (1 - alpha)).astype("uint8"))
    return Picture(*planes)


def labelled(picture: Picture, item: Input) -> Picture:
    """A picture with its input's name laid over it, large."""
    out = picture_from_i420(picture_to_i420(picture))
    width, height = out.width * 4 // 5 // 2 * 2, out.height // 2 // 2 * 2
    label = draw_label(item.name, width, height)
    paste(out, label, (out.width - width) // 4 * 2, (out.height - height) // 4 * 2)
    return out
