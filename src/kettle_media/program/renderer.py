"""The one way from a plan to frames: a take's program, a still, a stretch of either."""

import os
from collections.abc import Generator, Iterable, Mapping
from contextlib import ExitStack
from typing import Protocol

import numpy as np

from kettle_core.errors import TakeError
from kettle_core.picture.picture import Picture, Plane
from kettle_core.program.change_over import ProgramComposer
from kettle_core.program.plan import Plan
from kettle_core.program.stretch import Stretch
from kettle_core.timing.time_map import Source
from kettle_media.picture.scaling import Shrinker
from kettle_media.program.ahead import ahead

DECODED_AHEAD, COMPOSED_AHEAD = 3, 3
# Limited range.
BLACK, GREY = 16, 128
# On two cores pictures that wait between two threads cost an eighth more: they leave the cache.
CORES_FOR_BOTH = 3


class Seen(Protocol):
    """What can be seen of a source."""

    def pictures(self, inputs: Iterable[str], record_ns: float) -> dict[str, Picture]:
        """The pictures of inputs at a time of the source."""
        ...


class Renderer:
    """Draws frames of a plan.

    Parameters
    ----------
    plan : what is seen
    sources : of every source in the plan
    masks : pictures that masks use, by name
    """

    def __init__(
        self, plan: Plan, sources: Mapping[Source, Seen], masks: Mapping[str, Plane]
    ) -> None:
        missing = {s.source for s in plan.stretches} - sources.keys()
        if missing:
            names = ", ".join(sorted(f"{s.kind} {s.id}" for s in missing))
            raise TakeError(f"The program uses {names}, which is not there.")
        self._plan, self._sources = plan, sources
        self._composer = ProgramComposer(plan.frame_size, masks, Shrinker(plan.scaling))

    def frame(self, number: int) -> Plane:
        """One frame, an I420 buffer that is not to be written to. Raises TakeError."""
        return self._drawn(*self._decoded(number))

    def frames(self, numbers: Iterable[int]) -> Generator[Plane, None, None]:
        """Frames in the order of their numbers, decoded and composed beside who takes them.

        Where there are cores for it, each in a thread of its own.
        """
        with ExitStack() as stack:
            decoded = (self._decoded(n) for n in numbers)
            if (os.cpu_count() or 1) >= CORES_FOR_BOTH:
                decoded = stack.enter_context(ahead(decoded, DECODED_AHEAD, "decode"))
            drawn = stack.enter_context(
                ahead((self._drawn(*found) for found in decoded), COMPOSED_AHEAD, "compose")
            )
            yield from drawn

    def _decoded(self, number: int) -> tuple[int, Stretch, dict[str, Picture]]:
        stretch = self._plan.stretch_of(number)
        layers = stretch.scene.layers + (stretch.before.layers if stretch.before else ())
        inputs = dict.fromkeys(x.input_id for x in layers)
        at_ns = float(stretch.source_ns(number, self._plan.fps))
        return number, stretch, self._sources[stretch.source].pictures(inputs, at_ns)

    def _drawn(self, number: int, stretch: Stretch, pictures: dict[str, Picture]) -> Plane:
        drawn = self._composer.compose(
            stretch.scene, pictures, stretch.before, stretch.change_over, stretch.share_at(number)
        )
        share = float(self._plan.share_at(number))
        return drawn if share == 1 else _dimmed(drawn, share)


def _dimmed(frame: Plane, share: float) -> Plane:
    """An I420 frame on its way into black, or out of it."""
    rows = frame.shape[0] * 2 // 3
    levels = np.arange(256)
    luma = np.rint(BLACK + (levels - BLACK) * share).clip(0, 255).astype(np.uint8)
    chroma = np.rint(GREY + (levels - GREY) * share).astype(np.uint8)
    return np.concatenate([luma[frame[:rows]], chroma[frame[rows:]]])
