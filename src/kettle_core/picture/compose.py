"""Frames of a scene: drawn from its plan and its pictures, as little as can be each time."""

import sys
from collections.abc import Mapping
from dataclasses import replace

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
        new = [seen.is_new(x) for seen, x in zip(self._seen, sources, strict=True)]
        if self._frame is not None and not any(new):
            return self._frame
        first = new.index(True) if self._frame is not None else 0
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
