"""Draws one layer over a frame; what depends on its place alone is worked out once."""

from copy import copy
from dataclasses import dataclass, replace
from functools import lru_cache
from math import ceil, floor

import cv2
import numpy as np
from numpy.typing import NDArray

from kettle_core.picture.blend import Share
from kettle_core.picture.colour_key import key_matte, without_spill
from kettle_core.picture.mask import Figure, Floats, coverage, shadow
from kettle_core.picture.picture import Picture, Plane, Seen, rgb_to_picture
from kettle_core.picture.resample import Shrink, doubled
from kettle_core.picture.sample import Sampler, chroma_box, sampler
from kettle_core.scene.layout import Box
from kettle_core.scene.placing import Bounds
from kettle_core.scene.scene import Mask
from kettle_core.scene.scene_plan import PlacedLayer, ScenePlan

BLACK = (16, 128, 128)
Shares = tuple[Share, Share]


@dataclass(frozen=True)
class _Patch:
    """A layer drawn for its region: planes, coverage for luma and chroma (None: all)."""

    planes: tuple[Plane, Plane, Plane]
    shares: Shares | None


class Painter:
    """Draws one layer; what depends on its place alone is worked out once."""

    def __init__(self, plan: ScenePlan, layer: PlacedLayer, shrink: Shrink | None = None) -> None:
        self.plan, self.layer = plan, layer
        self._shrink = shrink
        self._still = plan.stills.get(layer.mask.still)
        frame = Box(0, 0, plan.width, plan.height)
        b = layer.seen
        self._region = _clipped(b, frame)
        self._fills = layer.is_exact and self._region == frame
        figure = Figure(layer.width, layer.height, layer.turn, layer.middle)
        self._sampler: Sampler | None = None
        self._patch: _Patch | None = None
        self._seen = Seen()
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
            region = _clipped(_darkened(layer), frame)
            dark = shadow(mask, figure, region, self._still) * np.float32(layer.opacity)
            self._shadow = (region, *_shares(dark, region))

    def at(self, plan: ScenePlan, layer: PlacedLayer, dx: int, dy: int) -> "Painter | None":
        """The same for a layer moved by whole twos; None where the frame cuts it otherwise."""
        region = _shifted(self._region, dx, dy)
        frame = Box(0, 0, plan.width, plan.height)
        if region != _clipped(layer.seen, frame) or self._fills:
            return None
        found = copy(self)
        found._seen = copy(self._seen)
        found.plan, found.layer, found._region = plan, layer, region
        if self._shadow:
            dark = _shifted(self._shadow[0], dx, dy)
            if dark != _clipped(_darkened(layer), frame):
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
        if self._seen.is_new(source):
            self._patch = None
        if self._patch is None:
            self._patch = self._drawn(source)
        if self._shadow:
            _darken(frame, *self._shadow)
        _lay(frame, self._patch, self._region)

    def uncover(self, frame: Picture, below: Picture) -> None:
        """Have what lies below again wherever the layer is drawn."""
        regions = [self._region, *([self._shadow[0]] if self._shadow else [])]
        for region in regions:
            if region.width > 0 and region.height > 0:
                for part, plane in zip(_parts(frame, region), _parts(below, region), strict=True):
                    part[:] = plane

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
            self._sampler = sampler(layer, region, size, self._shrink)
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


def moved_painter(old: Painter | None, plan: ScenePlan, layer: PlacedLayer) -> Painter | None:
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


# Few are kept: those of a whole 4K frame take 80 MB each.
@lru_cache(maxsize=8)
def _kept_outline(mask: Mask, figure: Figure, region: Box, opacity: float) -> _Outline:
    return _worked_out(mask, figure, region, opacity, None)


def _worked_out(
    mask: Mask, figure: Figure, region: Box, opacity: float, still: Plane | None
) -> _Outline:
    outer, inner = coverage(mask, figure, region, still)
    alpha = outer * np.float32(opacity)
    inside = None if inner is None else _shares(inner, region)
    return alpha, _shares(alpha, region), inside


def _darkened(layer: PlacedLayer) -> Bounds:
    """Where a layer's shadow may fall: a little more below it than above."""
    b, spread = layer.seen, 2 * layer.mask.shadow_px
    return Bounds(b.left - spread, b.top - spread, b.right + spread, b.bottom + 2 * spread)


def _shifted(box: Box, dx: int, dy: int) -> Box:
    return Box(box.left + dx, box.top + dy, box.width, box.height)


def _clipped(bounds: Bounds, frame: Box) -> Box:
    left, top = max(frame.left, floor(bounds.left)), max(frame.top, floor(bounds.top))
    right = min(frame.right, ceil(bounds.right))
    bottom = min(frame.bottom, ceil(bounds.bottom))
    return Box(left, top, right - left, bottom - top)


def _shares(alpha: Floats, region: Box) -> Shares:
    """How much of a layer covers what lies below, for luma and for chroma.

    Chroma's is the mean of its two by two pixels.
    """
    half = chroma_box(region)
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
    half = chroma_box(region)
    left, top = region.left - 2 * half.left, region.top - 2 * half.top
    return doubled(matte)[top : top + region.height, left : left + region.width]


def _colour(text: str) -> tuple[int, int, int]:
    rgb = np.array([int(text[n : n + 2], 16) for n in (1, 3, 5)], np.uint8)
    pixel = rgb_to_picture(np.broadcast_to(rgb, (2, 2, 3)).copy())
    return int(pixel.y[0, 0]), int(pixel.u[0, 0]), int(pixel.v[0, 0])


def _parts(frame: Picture, region: Box) -> tuple[NDArray[np.uint8], ...]:
    half = chroma_box(region)
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
