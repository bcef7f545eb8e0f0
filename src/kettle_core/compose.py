"""Scenes to frames: a scene is planned once, then each frame is drawn from its pictures."""

import sys
from collections.abc import Mapping
from copy import copy
from dataclasses import dataclass, field, replace
from functools import lru_cache
from math import ceil, floor

import cv2
import numpy as np
from numpy.typing import NDArray

from kettle_core.blend import Share
from kettle_core.colour_key import key_matte, without_spill
from kettle_core.layout import Box
from kettle_core.mask import Figure, Floats, coverage, shadow
from kettle_core.picture import (
    Picture,
    Plane,
    blank_i420,
    crop_picture,
    picture_from_i420,
    rgb_to_picture,
    turn_picture,
)
from kettle_core.placing import Bounds, Point, middle_of, turned
from kettle_core.resample import doubled
from kettle_core.rig import Format, Looks
from kettle_core.sample import Sampler, sampler
from kettle_core.scene import ColourKey, Layer, Mask, Scene

BACKDROP_RGB = (0x22, 0x33, 0x3B)
BLACK = (16, 128, 128)
Shares = tuple[Share, Share]


@dataclass(frozen=True)
class PlacedLayer:
    """A layer where it is drawn: its middle and its size before the turn, in frame px."""

    id: str
    input_id: str
    middle: Point
    width: float
    height: float
    turn: float
    mirrored: bool
    crop: Box
    opacity: float
    mask: Mask
    colour_key: ColourKey | None = None

    @property
    def bounds(self) -> Bounds:
        """The upright rectangle around its turned box."""
        x, y = turned((self.width / 2, self.height / 2), (0, 0), self.turn)
        x2, y2 = turned((self.width / 2, -self.height / 2), (0, 0), self.turn)
        across, down = max(abs(x), abs(x2)), max(abs(y), abs(y2))
        cx, cy = self.middle
        return Bounds(cx - across, cy - down, cx + across, cy + down)

    @property
    def seen(self) -> Bounds:
        """The upright rectangle around what its mask leaves."""
        if self.mask.shape != "circle":
            return self.bounds
        (cx, cy), radius = self.middle, min(self.width, self.height) / 2 + 0.5
        return Bounds(cx - radius, cy - radius, cx + radius, cy + radius)

    @property
    def is_exact(self) -> bool:
        """Whether it lies on whole pixels, turned by right angles at most."""
        b = self.bounds
        return self.turn % 90 == 0 and all(v == int(v) for v in (b.left, b.top, b.right, b.bottom))


@dataclass(frozen=True)
class ScenePlan:
    """What is drawn where, from back to front; `stills` are the pictures of masks by name."""

    width: int
    height: int
    layers: tuple[PlacedLayer, ...]
    stills: Mapping[str, Plane] = field(default_factory=dict, hash=False)


def place_layer(layer: Layer) -> PlacedLayer:
    """A layer where it is drawn. Turned by a right angle it stays on whole pixels."""
    box = layer.box
    middle = middle_of(box)
    if layer.turn % 180 == 90 and (box.width - box.height) % 2:
        middle = (middle[0] - 0.5, middle[1] - 0.5)
    return PlacedLayer(
        layer.id,
        layer.input_id,
        middle,
        box.width,
        box.height,
        layer.turn % 360,
        layer.mirrored,
        layer.crop,
        layer.opacity / 100,
        layer.mask,
        layer.colour_key,
    )


def plan_scene(
    scene: Scene, format_: Format, stills: Mapping[str, Plane] | None = None
) -> ScenePlan:
    """Work out what does not change from frame to frame; hidden layers are left out.

    Parameters
    ----------
    scene : Scene
    format_ : Format
    stills : name to (rows, columns) uint8, the pictures that masks use; 255 is seen
    """
    layers = tuple(place_layer(x) for x in scene.layers if x.shown)
    return ScenePlan(format_.frame_width, format_.frame_height, layers, stills or {})


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


@dataclass(frozen=True)
class _Patch:
    """A layer drawn for its region: planes, coverage for luma and chroma (None: all)."""

    planes: tuple[Plane, Plane, Plane]
    shares: Shares | None


class Composer:
    """Draws frames of one scene and keeps what need not be drawn again.

    A layer whose picture is the same object as before is not scaled again; layers below the
    first one that changed are kept as one frame. A composer made after another one takes over
    its memory and the layers that were only moved. Not for several threads at once.
    """

    def __init__(self, plan: ScenePlan, before: "Composer | None" = None) -> None:
        self.plan = plan
        known = {p.layer.id: p for p in before._painters} if before else {}
        self._painters: list[_Painter] = [
            _moved(known.get(layer.id), plan, layer) or _Painter(plan, layer)
            for layer in plan.layers
        ]
        self._sources: list[Picture | None] = [None] * len(plan.layers)
        self._frame: Plane | None = None
        self._base: tuple[int, Plane] | None = None
        self._backdrop: Plane | None = None
        self._frames: list[Plane] = []
        if before and (before.plan.width, before.plan.height) == (plan.width, plan.height):
            self._frames, self._backdrop = before._frames, before._backdrop

    def compose(self, pictures: Mapping[str, Picture]) -> Plane:
        """Draw one frame.

        Parameters
        ----------
        pictures : mapping of input id to Picture; a layer whose picture is missing is left out

        Returns
        -------
        (height * 3 / 2, width) uint8 ndarray
            An I420 buffer, the one given before where nothing changed: not to be written to.
        """
        sources = [pictures.get(x.input_id) for x in self.plan.layers]
        same = [new is old for new, old in zip(sources, self._sources, strict=True)]
        if self._frame is not None and all(same):
            return self._frame
        first = same.index(False) if False in same else 0
        if self._frame is None:
            first = 0
        self._sources = sources
        frame, start = self._begin(first, sources)
        planes = picture_from_i420(frame)
        for n in range(start, len(sources)):
            if n == first and n > start:
                self._base = (n, frame.copy())
            self._painters[n].paint(planes, sources[n])
        self._frame = frame
        return frame

    def _begin(self, first: int, sources: list[Picture | None]) -> tuple[Plane, int]:
        """A frame to draw on, and the first layer that is missing from it."""
        frame = self._free_frame()
        if self._base and self._base[0] == first:
            np.copyto(frame, self._base[1])
            return frame, first
        if self._base and self._base[0] > first:
            self._base = None
        if self._painters and self._painters[0].fills(sources[0]):
            return frame, 0
        if self._backdrop is None:
            self._backdrop = blank_i420(self.plan.width, self.plan.height, BACKDROP_RGB)
        np.copyto(frame, self._backdrop)
        return frame, 0

    def _free_frame(self) -> Plane:
        """Memory of a frame that nobody else holds any more; new memory costs a millisecond."""
        for frame in self._frames:
            # References: the list's, the loop's and that of the call.
            if frame is not self._frame and sys.getrefcount(frame) == 3:
                return frame
        frame = np.empty((self.plan.height * 3 // 2, self.plan.width), np.uint8)
        self._frames.append(frame)
        return frame


def compose_frame(plan: ScenePlan, pictures: Mapping[str, Picture]) -> Plane:
    """One frame of a scene, drawn afresh (see `Composer.compose`)."""
    return Composer(plan).compose(pictures)


def draw_matte(plan: ScenePlan, layer_id: str, pictures: Mapping[str, Picture]) -> Plane:
    """How much of a layer is kept by its mask and colour key: white for all, on black."""
    buffer = blank_i420(plan.width, plan.height, (0, 0, 0))
    frame = picture_from_i420(buffer)
    for layer in plan.layers:
        source = pictures.get(layer.input_id)
        if layer.id == layer_id and source is not None:
            _Painter(plan, replace(layer, opacity=1.0)).paint_matte(frame, source)
    return buffer


class _Painter:
    """Draws one layer; what depends on its place alone is worked out once."""

    def __init__(self, plan: ScenePlan, layer: PlacedLayer) -> None:
        self.plan, self.layer = plan, layer
        self._still = plan.stills.get(layer.mask.still)
        frame = Box(0, 0, plan.width, plan.height)
        b = layer.seen
        self._region = _clipped(b, frame)
        self._fills = layer.is_exact and self._region == frame
        figure = Figure(layer.width, layer.height, layer.turn, layer.middle)
        self._sampler: Sampler | None = None
        self._patch: _Patch | None = None
        self._source: Picture | None = None
        self._shadow: tuple[Box, Share, Share] | None = None
        self._inner_shares: Shares | None = None
        self._alpha: Floats | None = None
        self._shares: Shares | None = None
        mask = layer.mask
        if self._region.width <= 0 or self._region.height <= 0:
            return
        if not (mask.is_plain and layer.is_exact) or mask.border_px or layer.opacity < 1:
            self._alpha, self._shares, self._inner_shares = _outline(
                mask, figure, self._region, layer.opacity, self._still
            )
        if mask.shadow_px:
            spread = 2 * mask.shadow_px
            around = Bounds(
                b.left - spread, b.top - spread, b.right + spread, b.bottom + 2 * spread
            )
            region = _clipped(around, frame)
            dark = shadow(mask, figure, region, self._still) * np.float32(layer.opacity)
            self._shadow = (region, *_shares(dark, region))

    def at(self, plan: ScenePlan, layer: PlacedLayer, dx: int, dy: int) -> "_Painter | None":
        """The same for a layer moved by whole twos; None where the frame cuts it otherwise."""
        region = _shifted(self._region, dx, dy)
        frame = Box(0, 0, plan.width, plan.height)
        if region != _clipped(layer.seen, frame) or self._fills:
            return None
        found = copy(self)
        found.plan, found.layer, found._region = plan, layer, region
        if self._shadow:
            dark = _shifted(self._shadow[0], dx, dy)
            if not frame.holds(dark) or not frame.holds(self._shadow[0]):
                return None
            found._shadow = (dark, *self._shadow[1:])
        return found

    def fills(self, source: Picture | None) -> bool:
        """Whether it covers the whole frame, so that nothing is seen below it."""
        opaque = self._alpha is None and self.layer.colour_key is None
        return self._fills and opaque and source is not None and source.cover is None

    def paint(self, frame: Picture, source: Picture | None) -> None:
        """Draw the layer over a frame, in place."""
        if source is None or self._region.width <= 0 or self._region.height <= 0:
            return
        if self._patch is None or source is not self._source:
            self._patch, self._source = self._drawn(source), source
        if self._shadow:
            _darken(frame, *self._shadow)
        _lay(frame, self._patch, self._region)

    def paint_matte(self, frame: Picture, source: Picture) -> None:
        """Draw the layer's coverage as grey values."""
        if self._region.width <= 0 or self._region.height <= 0:
            return
        region, patch = self._region, self._drawn(source)
        shown = np.ones((region.height, region.width), np.float32)
        if patch.shares:
            shown = patch.shares[0].alpha
        rows, columns = slice(region.top, region.bottom), slice(region.left, region.right)
        frame.y[rows, columns] = np.rint(16 + 219 * shown).astype(np.uint8)

    def _drawn(self, source: Picture) -> _Patch:
        layer, region = self.layer, self._region
        size = (source.width, source.height)
        if self._sampler is None or self._sampler.source_size != size:
            self._sampler = sampler(layer, region, size)
        y, u, v = self._sampler.planes(source)
        alpha = self._alpha
        if source.cover is not None:
            cover = self._sampler.luma(source.cover).astype(np.float32) / np.float32(255)
            alpha = cover if alpha is None else alpha * cover
        if layer.colour_key:
            matte = _on_luma(key_matte(layer.colour_key, u, v), region)
            u, v = without_spill(layer.colour_key, u, v)
            alpha = matte if alpha is None else alpha * matte
        if self._inner_shares:
            y, u, v = self._bordered((y, u, v), self._inner_shares)
        if alpha is self._alpha and self._shares:
            return _Patch((y, u, v), self._shares)
        if alpha is None:
            odd = (region.left | region.top | region.right | region.bottom) % 2
            if not odd:
                return _Patch((y, u, v), None)
            alpha = np.ones((region.height, region.width), np.float32)
        return _Patch((y, u, v), _shares(alpha, region))

    def _bordered(
        self, planes: tuple[Plane, Plane, Plane], inner: Shares
    ) -> tuple[Plane, Plane, Plane]:
        """The picture where the border leaves it, the border's colour elsewhere."""
        colour = _colour(self.layer.mask.border_colour)
        luma, chroma = inner
        out = []
        for plane, value, share in zip(planes, colour, (luma, chroma, chroma), strict=True):
            flat = np.full(plane.shape, value, np.uint8)
            share.lay(flat, plane)
            out.append(flat)
        return out[0], out[1], out[2]


def _moved(old: _Painter | None, plan: ScenePlan, layer: PlacedLayer) -> _Painter | None:
    """A painter of a layer that is the same but for its place, by whole twos; None if not."""
    if old is None or old.plan.stills.get(layer.mask.still) is not plan.stills.get(
        layer.mask.still
    ):
        return None
    dx = layer.middle[0] - old.layer.middle[0]
    dy = layer.middle[1] - old.layer.middle[1]
    if dx % 2 or dy % 2 or replace(layer, middle=old.layer.middle) != old.layer:
        return None
    return old.at(plan, layer, int(dx), int(dy))


_Outline = tuple[Floats, Shares, Shares | None]


def _outline(
    mask: Mask, figure: Figure, region: Box, opacity: float, still: Plane | None
) -> _Outline:
    """Coverage of a region, as shares for luma and chroma too, and what a border leaves."""
    if mask.shape == "picture":
        return _worked_out(mask, figure, region, opacity, still)
    # Moved by whole twos it has the same coverage again, so it is asked for at one place.
    left, top = region.left % 2, region.top % 2
    near = figure.moved(left - region.left, top - region.top)
    shape = replace(mask, border_colour="#000000", shadow_px=0, shadow_percent=0)
    return _kept_outline(shape, near, Box(left, top, region.width, region.height), opacity)


@lru_cache(maxsize=48)
def _kept_outline(mask: Mask, figure: Figure, region: Box, opacity: float) -> _Outline:
    return _worked_out(mask, figure, region, opacity, None)


def _worked_out(
    mask: Mask, figure: Figure, region: Box, opacity: float, still: Plane | None
) -> _Outline:
    outer, inner = coverage(mask, figure, region, still)
    alpha = outer * np.float32(opacity)
    inside = None if inner is None else _shares(inner, region)
    return alpha, _shares(alpha, region), inside


def _shifted(box: Box, dx: int, dy: int) -> Box:
    return Box(box.left + dx, box.top + dy, box.width, box.height)


def _clipped(bounds: Bounds, frame: Box) -> Box:
    left, top = max(frame.left, floor(bounds.left)), max(frame.top, floor(bounds.top))
    right = min(frame.right, ceil(bounds.right))
    bottom = min(frame.bottom, ceil(bounds.bottom))
    return Box(left, top, right - left, bottom - top)


def chroma_region(region: Box) -> Box:
    """The chroma samples whose two by two pixels a region touches."""
    left, top = region.left // 2, region.top // 2
    return Box(left, top, (region.right + 1) // 2 - left, (region.bottom + 1) // 2 - top)


def _shares(alpha: Floats, region: Box) -> Shares:
    """How much of a layer covers what lies below, for luma and for chroma.

    Chroma's is the mean of its two by two pixels.
    """
    half = chroma_region(region)
    left, top = region.left - 2 * half.left, region.top - 2 * half.top
    whole = alpha
    if left or top or region.width % 2 or region.height % 2:
        whole = np.zeros((2 * half.height, 2 * half.width), np.float32)
        whole[top : top + region.height, left : left + region.width] = alpha
    size = (half.width, half.height)
    chroma = np.asarray(cv2.resize(whole, size, interpolation=cv2.INTER_AREA), np.float32)
    return Share(alpha), Share(chroma)


def _on_luma(matte: Floats, region: Box) -> Floats:
    """Values of a region's chroma samples at its pixels."""
    half = chroma_region(region)
    left, top = region.left - 2 * half.left, region.top - 2 * half.top
    return doubled(matte)[top : top + region.height, left : left + region.width]


def _colour(text: str) -> tuple[int, int, int]:
    rgb = np.array([int(text[n : n + 2], 16) for n in (1, 3, 5)], np.uint8)
    pixel = rgb_to_picture(np.broadcast_to(rgb, (2, 2, 3)).copy())
    return int(pixel.y[0, 0]), int(pixel.u[0, 0]), int(pixel.v[0, 0])


def _parts(frame: Picture, region: Box) -> tuple[NDArray[np.uint8], ...]:
    half = chroma_region(region)
    rows, columns = slice(half.top, half.bottom), slice(half.left, half.right)
    luma = frame.y[region.top : region.bottom, region.left : region.right]
    return luma, frame.u[rows, columns], frame.v[rows, columns]


def _lay(frame: Picture, patch: _Patch, region: Box) -> None:
    parts = _parts(frame, region)
    if patch.shares is None:
        for part, plane in zip(parts, patch.planes, strict=True):
            part[:] = plane
        return
    luma, chroma = patch.shares
    for part, plane, share in zip(parts, patch.planes, (luma, chroma, chroma), strict=True):
        share.lay(part, plane)


def _darken(frame: Picture, region: Box, luma: Share, chroma: Share) -> None:
    shares = (luma, chroma, chroma)
    for part, value, share in zip(_parts(frame, region), BLACK, shares, strict=True):
        share.lay(part, np.full(part.shape, value, np.uint8))


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
