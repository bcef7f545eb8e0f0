"""Frames of a scene: drawn from its plan and its pictures, as little as can be each time."""

import sys
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from kettle_core.picture.painter import Painter, moved_painter
from kettle_core.picture.picture import (
    Picture,
    Plane,
    Seen,
    blank_i420,
    picture_from_i420,
)
from kettle_core.picture.resample import Shrink
from kettle_core.scene.scene_plan import ScenePlan

BACKDROP_RGB = (0x22, 0x33, 0x3B)


class Composer:
    """Draws frames of one scene and keeps what need not be drawn again.

    A layer whose picture is the same object as before is not scaled again; layers below the
    first one that changed are kept as one frame. A composer made after another one takes over
    its memory and the layers that were only moved. `shrink` is as of `Resampler`. Not for several
    threads at once.
    """

    def __init__(
        self,
        plan: ScenePlan,
        before: "Composer | None" = None,
        shrink: Shrink | None = None,
    ) -> None:
        self.plan = plan
        known = {p.layer.id: p for p in before._painters} if before else {}
        self._painters: list[Painter] = [
            moved_painter(known.get(layer.id), plan, layer) or Painter(plan, layer, shrink)
            for layer in plan.layers
        ]
        self._seen = [Seen() for _ in plan.layers]
        self._frame: Plane | None = None
        # The layers below the first one that changes, and what they look like.
        self._base: _Base | None = None
        self._below: Plane = np.empty((0, 0), np.uint8)
        self._backdrop: Plane | None = None
        self._frames: list[_Frame] = []
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
        new = [seen.is_new(x) for seen, x in zip(self._seen, sources, strict=True)]
        if self._frame is not None and not any(new):
            return self._frame
        first = new.index(True) if self._frame is not None else 0
        frame, start = self._begin(first, sources)
        planes = picture_from_i420(frame.buffer)
        for n in range(start, len(sources)):
            if n == first and n > start:
                self._base = frame.over = _Base(n)
                self._below = frame.buffer.copy()
            self._painters[n].paint(planes, sources[n])
        self._frame = frame.buffer
        return self._frame

    def _begin(self, first: int, sources: list[Picture | None]) -> tuple["_Frame", int]:
        """A frame to draw on, and the first layer that is missing from it."""
        frame = self._free_frame()
        if self._base and self._base.first == first:
            self._lay_below(frame, self._base)
            return frame, first
        frame.over = None
        if self._base and self._base.first > first:
            self._base = None
        if self._painters and self._painters[0].fills(sources[0]):
            return frame, 0
        if self._backdrop is None:
            self._backdrop = blank_i420(self.plan.width, self.plan.height, BACKDROP_RGB)
        np.copyto(frame.buffer, self._backdrop)
        return frame, 0

    def _lay_below(self, frame: "_Frame", base: "_Base") -> None:
        """Have what lies below the layers that change, no more of it than they have covered."""
        if frame.over is not base:
            np.copyto(frame.buffer, self._below)
            frame.over = base
            return
        over, below = picture_from_i420(frame.buffer), picture_from_i420(self._below)
        for painter in self._painters[base.first :]:
            painter.uncover(over, below)

    def _free_frame(self) -> "_Frame":
        """Memory of a frame that nobody else holds any more; new memory costs a millisecond."""
        for frame in self._frames:
            # References: the frame's own and that of the call.
            if frame.buffer is not self._frame and sys.getrefcount(frame.buffer) == 2:
                return frame
        frame = _Frame(np.empty((self.plan.height * 3 // 2, self.plan.width), np.uint8))
        self._frames.append(frame)
        return frame


@dataclass(frozen=True, eq=False)
class _Base:
    """Layers that were drawn once: those below the `first` one that changes."""

    first: int


@dataclass(eq=False)
class _Frame:
    """A frame's memory, and the base that what changes was drawn over in it."""

    buffer: Plane
    over: _Base | None = None


def compose_frame(
    plan: ScenePlan, pictures: Mapping[str, Picture], shrink: Shrink | None = None
) -> Plane:
    """One frame of a scene, drawn afresh (see `Composer.compose`)."""
    return Composer(plan, shrink=shrink).compose(pictures)


def draw_matte(plan: ScenePlan, layer_id: str, pictures: Mapping[str, Picture]) -> Plane:
    """How much of a layer is kept by its mask and colour key: white for all, on black."""
    buffer = blank_i420(plan.width, plan.height, (0, 0, 0))
    frame = picture_from_i420(buffer)
    for layer in plan.layers:
        source = pictures.get(layer.input_id)
        if layer.id == layer_id and source is not None:
            Painter(plan, replace(layer, opacity=1.0)).paint_matte(frame, source)
    return buffer
