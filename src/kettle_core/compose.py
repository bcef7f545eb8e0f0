"""Scenes to frames: a scene is planned once, then each frame is a pure function of its pictures."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from kettle_core.layout import Box, scale_box
from kettle_core.picture import (
    OPAQUE,
    Picture,
    Plane,
    blank_i420,
    blend_plane,
    crop_picture,
    ellipse_alpha,
    paste,
    picture_from_i420,
    scale_picture,
    turn_picture,
)
from kettle_core.rig import Format, Looks, Scene

BACKDROP_RGB = (0x22, 0x33, 0x3B)


@dataclass(frozen=True)
class PlacedLayer:
    """A layer in the pixels of the frame that is really drawn."""

    input_id: str
    box: Box
    crop: Box
    shape: str


@dataclass(frozen=True)
class ScenePlan:
    """What stays the same from frame to frame of a scene."""

    width: int
    height: int
    layers: tuple[PlacedLayer, ...]
    backdrop: Plane | None


def plan_scene(scene: Scene, format_: Format, width: int = 0) -> ScenePlan:
    """Work out what does not change from frame to frame.

    Parameters
    ----------
    scene : Scene
    format_ : Format
    width : int, even; the width to draw at when it is not the frame width (live preview)

    Returns
    -------
    ScenePlan
        Its backdrop is None where the rearmost layer covers the whole frame.
    """
    factor = (width or format_.frame_width) / format_.frame_width
    frame = scale_box(Box(0, 0, format_.frame_width, format_.frame_height), factor)
    layers = tuple(
        PlacedLayer(x.input_id, scale_box(x.box, factor), x.crop, x.shape)
        for x in scene.layers
        if x.shown
    )
    covered = layers and layers[0].shape == "rectangle" and layers[0].box == frame
    backdrop = None if covered else blank_i420(frame.width, frame.height, BACKDROP_RGB)
    return ScenePlan(frame.width, frame.height, layers, backdrop)


def as_used(picture: Picture, looks: Looks) -> Picture:
    """A device's picture as its input uses it: cropped, turned, mirrored.

    Parameters
    ----------
    picture : Picture, as the device gave it
    looks : Looks; a crop that does not lie on the picture is left out

    Returns
    -------
    Picture
        Its planes may be views of the source.
    """
    if looks.crop and Box(0, 0, picture.width, picture.height).holds(looks.crop):
        picture = crop_picture(picture, looks.crop)
    return turn_picture(picture, looks.turn, looks.mirrored)


def compose_frame(plan: ScenePlan, pictures: Mapping[str, Picture]) -> Plane:
    """Draw one frame.

    Parameters
    ----------
    plan : ScenePlan
    pictures : mapping of input id to Picture; a layer whose picture is missing is left out

    Returns
    -------
    (height * 3 / 2, width) uint8 ndarray
        A new I420 buffer.
    """
    if plan.backdrop is None:
        frame = np.empty((plan.height * 3 // 2, plan.width), np.uint8)
        rearmost = pictures.get(plan.layers[0].input_id)
        if rearmost is None or rearmost.cover is not None:
            frame = blank_i420(plan.width, plan.height, BACKDROP_RGB)
    else:
        frame = plan.backdrop.copy()
    planes = picture_from_i420(frame)
    for layer in plan.layers:
        source = pictures.get(layer.input_id)
        if source is not None:
            _draw_layer(planes, layer, source)
    return frame


def _draw_layer(frame: Picture, layer: PlacedLayer, source: Picture) -> None:
    box = layer.box
    scaled = scale_picture(source, layer.crop, box.width, box.height)
    if layer.shape == "rectangle" and scaled.cover is None:
        paste(frame, scaled, box.left, box.top)
        return
    if layer.shape == "rectangle":
        luma, chroma = np.full((box.height, box.width), OPAQUE, np.uint16), None
    else:
        luma, chroma = ellipse_alpha(box.width, box.height)
    if scaled.cover is not None:
        luma = (luma * scaled.cover.astype(np.uint32) // 255).astype(np.uint16)
        chroma = None
    if chroma is None:
        blocks = luma.reshape(box.height // 2, 2, box.width // 2, 2)
        chroma = blocks.mean(axis=(1, 3)).astype(np.uint16)
    half = Box(box.left // 2, box.top // 2, box.width // 2, box.height // 2)
    blend_plane(frame.y[box.top : box.bottom, box.left : box.right], scaled.y, luma)
    rows, columns = slice(half.top, half.bottom), slice(half.left, half.right)
    blend_plane(frame.u[rows, columns], scaled.u, chroma)
    blend_plane(frame.v[rows, columns], scaled.v, chroma)


def frame_at(captured_ns: np.ndarray, wanted_ns: np.ndarray, tolerance_ns: int) -> np.ndarray:
    """Which captured frame is shown at each wanted time.

    The latest one captured no later than `tolerance_ns` after the wanted time: with half a
    frame of the source as tolerance the shown picture is early as often as late.

    Parameters
    ----------
    captured_ns : (N,) rising, master time of capture
    wanted_ns : (M,) master times
    tolerance_ns : int

    Returns
    -------
    (M,) int64 ndarray of indices into `captured_ns`; the first frame before there is any
    """
    places = np.searchsorted(captured_ns, np.asarray(wanted_ns) + tolerance_ns, side="right") - 1
    return np.maximum(places, 0)
