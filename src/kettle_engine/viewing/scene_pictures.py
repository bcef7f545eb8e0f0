"""Live pictures of scenes by the one composer: as large as the frame, or as they are shown."""

import time
from bisect import bisect_right
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from fractions import Fraction
from functools import cached_property, partial
from math import ceil, floor
from pathlib import Path
from typing import TypeVar

import numpy as np

from kettle_core.errors import EngineError
from kettle_core.picture.compose import Composer, draw_matte
from kettle_core.picture.picture import (
    Picture,
    Plane,
    crop_picture,
    picture_from_i420,
    picture_to_rgb,
)
from kettle_core.picture.resample import shrunk_by
from kettle_core.picture.sample import source_point
from kettle_core.program.change_over import ProgramComposer
from kettle_core.program.plan import stretches_from_now
from kettle_core.program.replay import Resolved
from kettle_core.program.stretch import Stretch
from kettle_core.rig.changes import frame_scale, scaled_layer
from kettle_core.rig.format import SCALINGS, Format
from kettle_core.rig.rig import Rig
from kettle_core.rig.scene_changes import layer_of
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import Scene
from kettle_core.scene.scene_plan import ScenePlan, place_layer, plan_scene
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.cueing import TakeCues
from kettle_engine.protocol import SHOWN_WIDTH
from kettle_engine.viewing.live import Live
from kettle_media.picture.scaling import Shrinker
from kettle_media.rig.stills import mask_names, masks_of

# What is seen of the scenes before and after a change-over that is played.
BEFORE_S, AFTER_S = 0.5, 1.2
PICKED_PX = 5
# Pictures come late; what is live runs so far behind what is captured.
BEHIND_FRAMES = 2
# A layer that is dragged makes a scene of each place; two are enough to go from one to the next.
KEPT = 2
Seen = TypeVar("Seen", Scene, Resolved)


@dataclass(frozen=True)
class Shown:
    """A frame, composed when it is asked for; `stamp` is another one whenever it looks different.

    It is asked for before anything else is composed.
    """

    stamp: int
    _compose: Callable[[], Plane] = field(repr=False)

    @cached_property
    def frame(self) -> Picture:
        """The frame."""
        return picture_from_i420(self._compose())


@dataclass(frozen=True)
class _Made:
    """What composes a scene, and what it was made for."""

    stamp: int
    composer: Composer
    scaling: str


class ScenePictures:
    """Composes scenes of what is live; for one thread, except `pick_colour`."""

    def __init__(self, library: Path) -> None:
        self._library = library
        self._composers: dict[tuple[str, int], _Made] = {}
        self._stills: dict[str, Plane] = {}
        self._shrinkers = {scaling: Shrinker(scaling) for scaling in SCALINGS}
        self._program: tuple[object, ProgramComposer] | None = None
        self._stretches: tuple[TakeCues, tuple[Stretch, ...]] | None = None

    def scene(self, live: Live, scene_id: str) -> Scene | None:
        """A scene as it is shown: as tried on the drawing table, or as the rig has it."""
        tried = live.tried_scene(scene_id, time.monotonic())
        if tried:
            return live.rig.seen_in(tried)
        found = next((s for s in live.rig.scenes if s.id == scene_id), None)
        return live.rig.seen_in(found) if found else None

    def inputs_of(self, live: Live, scene_id: str) -> set[str]:
        """Ids of the inputs that a scene's picture needs."""
        scenes = [self.scene(live, scene_id)]
        if live.played and live.played.scene_id == scene_id:
            scenes.append(self.scene(live, live.played.to_id))
        return {x.input_id for s in scenes if s for x in s.layers}

    def shown(self, live: Live, scene_id: str, width: int = 0) -> Shown | None:
        """The frame of a scene now, or of a change-over that is played from it.

        One that is only wanted small, at least `width` px wide, is composed small.
        """
        played = live.played
        if played and played.scene_id == scene_id:
            shown = self._played(live, played.to_id, time.monotonic() - played.since_s)
            if shown:
                return shown
            live.played = None
        scene = self.scene(live, scene_id)
        if scene is None:
            return None
        plan_stamp = hash((scene, live.rig.format))
        if len({x for x, _ in self._composers}) > len(live.rig.scenes):
            there = {s.id for s in live.rig.scenes}
            self._composers = {n: c for n, c in self._composers.items() if n[0] in there}
        known = self._composers.get((scene_id, width))
        if known is None or known.stamp != plan_stamp:
            scaling = live.rig.format.scaling
            before = known.composer if known and known.scaling == scaling else None
            plan = self._plan(live.rig, scene, width)
            known = _Made(plan_stamp, Composer(plan, before, self._shrinkers[scaling]), scaling)
            self._composers[scene_id, width] = known
        pictures, numbers = self._pictures(live, scene)
        return Shown(hash((plan_stamp, numbers)), partial(known.composer.compose, pictures))

    def program(self, live: Live, now_ns: int) -> Shown | None:
        """The program's frame now (master ns): as it will be composed, if a take is recorded.

        It is composed as small as pages show it: what shows gives way to what records.
        """
        rig = live.rig
        if live.cues is None:
            width = _as_shown(rig.format).frame_width
            return self.shown(live, live.first_scene.id, width)
        stretch, frame_no = self._stretch_now(live.cues, live.rig, now_ns)
        at_ns = live.cues.start_ns + frame_no * NS_PER_S / rig.format.fps
        scenes = [x for x in (stretch.scene, stretch.before) if x]
        names = sorted({x.input_id for s in scenes for x in s.layers} & live.inputs.keys())
        seen = {name: found for name in names if (found := live.at(name, float(at_ns)))}
        pictures = {name: found.picture for name, found in seen.items()}
        numbers = hash(tuple((name, found.number) for name, found in seen.items()))
        way, share = stretch.change_over, stretch.share_at(frame_no)
        composer = self._composer(rig, _as_shown(rig.format))
        stamp = hash((stretch.scene, stretch.before, share, numbers))
        drawn = (stretch.scene, pictures, stretch.before, way, share)
        return Shown(stamp, partial(composer.compose, *drawn))

    def program_inputs(self, live: Live, now_ns: int) -> set[str]:
        """Ids of the inputs that the program's picture needs."""
        if live.cues is None:
            return self.inputs_of(live, live.first_scene.id)
        stretch, _ = self._stretch_now(live.cues, live.rig, now_ns)
        scenes = [x for x in (stretch.scene, stretch.before) if x]
        return {x.input_id for s in scenes for x in s.layers}

    def _stretch_now(self, cues: TakeCues, rig: Rig, now_ns: int) -> tuple[Stretch, int]:
        """The program's frame that is shown now, a little behind, and the stretch it lies in."""
        if self._stretches is None or self._stretches[0] is not cues:
            found = stretches_from_now(cues.moments, rig.format)
            self._stretches = (cues, tuple(_stretch_as_shown(s, rig.format) for s in found))
        elapsed = Fraction(now_ns - cues.start_ns) * rig.format.fps / NS_PER_S
        frame = max(0, floor(elapsed) - BEHIND_FRAMES)
        place = bisect_right(self._stretches[1], frame, key=lambda s: s.first_frame) - 1
        stretch = self._stretches[1][max(0, place)]
        return stretch, frame

    def _composer(self, rig: Rig, format_: Format) -> ProgramComposer:
        """What composes change-overs of a rig; scenes that stand still are kept by it."""
        known = (format_, rig.scenes)
        if self._program is None or self._program[0] != known:
            masks = self._masks(*rig.scenes)
            shrink = self._shrinkers[format_.scaling]
            self._program = (known, ProgramComposer(format_.frame_size, masks, shrink, KEPT))
        return self._program[1]

    def matte(self, live: Live, scene_id: str, layer_id: str) -> Shown | None:
        """How much of a layer its mask and colour key keep."""
        scene = self.scene(live, scene_id)
        if scene is None:
            return None
        pictures, numbers = self._pictures(live, scene)
        plan = self._plan(live.rig, scene)
        return Shown(
            hash((scene, layer_id, numbers)), partial(draw_matte, plan, layer_id, pictures)
        )

    def _plan(self, rig: Rig, scene: Scene, width: int = 0) -> ScenePlan:
        format_ = rig.format
        if width:
            format_ = format_.shrunk(max(1, format_.frame_width // width))
            scene = _scaled(scene, rig.format, format_)
        return plan_scene(scene, format_.frame_size, self._masks(scene))

    def _masks(self, *scenes: Scene) -> dict[str, Plane]:
        if mask_names(scenes) - self._stills.keys():
            self._stills |= masks_of(scenes, self._library)
        return self._stills

    @staticmethod
    def _pictures(live: Live, *scenes: Scene | Resolved) -> tuple[dict[str, Picture], int]:
        """Pictures of scenes by input, and a number that changes with them."""
        names = sorted({x.input_id for s in scenes for x in s.layers} & live.inputs.keys())
        newest = {name: found for name in names if (found := live.newest(name))}
        numbers = hash(tuple((name, found.number) for name, found in newest.items()))
        return {name: found.picture for name, found in newest.items()}, numbers

    def _played(self, live: Live, to_id: str, elapsed_s: float) -> Shown | None:
        """The frame of a change-over that began some time ago; None when it is over."""
        rig, played = live.rig, live.played
        target = next((s for s in rig.scenes if s.id == to_id), None)
        if target is None or played is None:
            return None
        way = rig.change_over_to(target)
        length_s = 0.0 if way.kind == "cut" else way.length_ms / 1000
        if elapsed_s > BEFORE_S + length_s + AFTER_S:
            return None
        scenes = [rig.scene(played.scene_id), target]
        before, after = (Resolved.of(rig, scene) for scene in scenes)
        at_s = elapsed_s - BEFORE_S
        shown = before if at_s < 0 else after
        giving_way = before if 0 <= at_s < length_s else None
        share = at_s / length_s if length_s else 1.0
        pictures = self._pictures(live, *(rig.seen_in(s) for s in scenes))[0]
        composer = self._composer(rig, rig.format)
        drawn = (shown, pictures, giving_way, way, share)
        return Shown(hash((shown, at_s)), partial(composer.compose, *drawn))


def _as_shown(format_: Format) -> Format:
    """A program's format with its frame as small as pages show it."""
    return format_.shrunk(ceil(format_.frame_width / SHOWN_WIDTH))


def _stretch_as_shown(stretch: Stretch, format_: Format) -> Stretch:
    small = _as_shown(format_)
    before = _scaled(stretch.before, format_, small) if stretch.before else None
    return replace(stretch, scene=_scaled(stretch.scene, format_, small), before=before)


def _scaled(scene: Seen, before: Format, after: Format) -> Seen:
    """A scene on the frame of another format."""
    scale = frame_scale(before, after)
    return replace(scene, layers=tuple(scaled_layer(x, *scale) for x in scene.layers))


def shrunk_for_page(frame: Picture, width: int) -> Picture:
    """A frame shrunk by a whole factor to about a width at most."""
    factor = ceil(frame.width / width)
    u, v = (shrunk_by(np.asarray(p), factor, factor) for p in (frame.u, frame.v))
    y = shrunk_by(np.asarray(frame.y), factor, factor)
    rows, columns = u.shape
    return Picture(y[: 2 * rows, : 2 * columns], u, v)


def pick_colour(live: Live, scene_id: str, layer_id: str, x: float, y: float) -> str:
    """The colour #rrggbb of a layer's picture at a place of the frame, before its colour key.

    Raises
    ------
    EngineError
        If the layer shows nothing there.
    """
    layer = layer_of(live.rig.scene(scene_id), layer_id)
    newest = live.newest(layer.input_id)
    u, v = source_point(place_layer(layer), x, y)
    crop = layer.crop
    inside = crop.left <= u < crop.right and crop.top <= v < crop.bottom
    if newest is None or not inside:
        raise EngineError("The layer shows no picture at this place. Pick a place inside it.")
    used = newest.picture
    left = min(max(0, int(u) // 2 * 2 - 2), used.width - PICKED_PX - 1)
    top = min(max(0, int(v) // 2 * 2 - 2), used.height - PICKED_PX - 1)
    box = Box(left // 2 * 2, top // 2 * 2, PICKED_PX + 1, PICKED_PX + 1)
    rgb = picture_to_rgb(crop_picture(used, box)).reshape(-1, 3)
    return "#" + "".join(f"{round(v):02x}" for v in np.median(rgb, axis=0))
