"""A program in time: stretches with one scene, change-overs between them, each frame's plan.

In a change-over both scenes are drawn and mixed, the new one's share growing from 0. In a glide
what is in both is drawn at the same place in both, on its way from the old to the new one: so
it moves while everything else fades.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import cv2
import numpy as np

from kettle_core.errors import RigError
from kettle_core.picture.compose import Composer
from kettle_core.picture.picture import Picture, Plane
from kettle_core.picture.resample import Shrink
from kettle_core.rig.rig import Rig
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import ChangeOver
from kettle_core.scene.scene_plan import PlacedLayer, ScenePlan, plan_scene

NS_PER_MS = 1_000_000


@dataclass(frozen=True)
class Stretch:
    """From `start_ns` to `end_ns` one scene is shown, or gives way to it by `change_over`."""

    start_ns: int
    end_ns: int
    scene_id: str
    before_id: str = ""
    change_over: ChangeOver | None = None

    def share_at(self, at_ns: int) -> float:
        """How much of the change-over is done: 0 at its start, 1 outside of one."""
        if self.change_over is None:
            return 1.0
        return (at_ns - self.start_ns) / (self.end_ns - self.start_ns)


def plan_stretches(rig: Rig, cues: Sequence[tuple[int, str]], end_ns: int) -> tuple[Stretch, ...]:
    """The stretches of a program, without gaps from 0 to its end.

    Parameters
    ----------
    rig : Rig
    cues : (time in ns, scene id), rising; a cue at 0 or before sets the first scene, which is
        the default scene otherwise. A change-over that the next cue cuts short ends there.
    end_ns : int > 0

    Raises
    ------
    RigError
        If the rig has no such scene, or the cues do not rise.
    """
    if any(b[0] < a[0] for a, b in pairwise(cues)):
        raise RigError("Cues must be in the order of their times.", "cues")
    now_id, since, found = rig.default_scene.id, 0, []
    changes: list[tuple[int, str]] = []
    for at_ns, scene_id in cues:
        if rig.scene(scene_id).id != (changes[-1][1] if changes else now_id):
            changes.append((at_ns, scene_id))
    for number, (at_ns, scene_id) in enumerate(changes):
        if at_ns <= 0:
            now_id = scene_id
        if at_ns <= 0 or at_ns >= end_ns:
            continue
        if at_ns > since:
            found.append(Stretch(since, at_ns, now_id))
        way = rig.change_over_to(rig.scene(scene_id))
        until = at_ns
        if way.kind != "cut":
            following = changes[number + 1][0] if number + 1 < len(changes) else end_ns
            until = min(at_ns + way.length_ms * NS_PER_MS, following, end_ns)
        if until > at_ns:
            found.append(Stretch(at_ns, until, scene_id, now_id, way))
        now_id, since = scene_id, until
    if since < end_ns:
        found.append(Stretch(since, end_ns, now_id))
    return tuple(found)


def eased(share: float) -> float:
    """Slow at both ends: 3 s² − 2 s³."""
    return share * share * (3 - 2 * share)


def shared_layers(before: ScenePlan, after: ScenePlan) -> list[tuple[int, int]]:
    """Places in both plans of layers that show the same input, each used once."""
    found, used = [], set()
    for n, layer in enumerate(before.layers):
        for m, other in enumerate(after.layers):
            if m not in used and other.input_id == layer.input_id:
                found.append((n, m))
                used.add(m)
                break
    return found


def glided(before: ScenePlan, after: ScenePlan, share: float) -> tuple[ScenePlan, ScenePlan]:
    """Both plans with what they share on its way from the one to the other.

    At a share of 0 the first plan is as it was, at 1 the second.
    """
    from_layers, to_layers = list(before.layers), list(after.layers)
    for n, m in shared_layers(before, after):
        a, b = before.layers[n], after.layers[m]
        part = eased(share)
        from_layers[n] = _between(a, b, part)
        to_layers[m] = _between(a, b, part)
    return replace(before, layers=tuple(from_layers)), replace(after, layers=tuple(to_layers))


def _between(a: PlacedLayer, b: PlacedLayer, share: float) -> PlacedLayer:
    """A layer on its way; it takes the other's mask when half of it is done."""
    if share in (0.0, 1.0):
        return b if share else a

    def mixed(x: float, y: float) -> float:
        return x + (y - x) * share

    turn = (b.turn - a.turn + 180) % 360 - 180
    near = b if share >= 0.5 else a
    sides = ("left", "top", "width", "height")
    crop = (round(mixed(getattr(a.crop, s), getattr(b.crop, s))) for s in sides)
    return replace(
        near,
        middle=(mixed(a.middle[0], b.middle[0]), mixed(a.middle[1], b.middle[1])),
        width=mixed(a.width, b.width),
        height=mixed(a.height, b.height),
        turn=(a.turn + turn * share) % 360,
        crop=Box(*crop),
        opacity=mixed(a.opacity, b.opacity),
    )


class ProgramComposer:
    """Draws a program's frames in any order; scenes that stand still are composed once.

    `shrink` is as of `Resampler`.
    """

    def __init__(
        self,
        rig: Rig,
        stills: Mapping[str, Plane] | None = None,
        shrink: Shrink | None = None,
    ) -> None:
        self._shrink = shrink
        size = rig.format.frame_size
        self._plans = {s.id: plan_scene(rig.seen_in(s), size, stills) for s in rig.scenes}
        self._composers: dict[str, Composer] = {}
        self._gliding: list[Composer | None] = [None, None]

    def compose(self, stretch: Stretch, at_ns: int, pictures: Mapping[str, Picture]) -> Plane:
        """The frame at a time within a stretch, an I420 buffer that is not to be written to."""
        if stretch.change_over is None or not stretch.before_id:
            return self._still_scene(stretch.scene_id, pictures)
        share = stretch.share_at(at_ns)
        if stretch.change_over.kind == "glide":
            plans = glided(self._plans[stretch.before_id], self._plans[stretch.scene_id], share)
            # What does not glide is taken over from the frame before.
            made = [Composer(p, b, self._shrink) for p, b in zip(plans, self._gliding, strict=True)]
            self._gliding = list(made)
            old, new = (composer.compose(pictures) for composer in made)
        else:
            old = self._still_scene(stretch.before_id, pictures)
            new = self._still_scene(stretch.scene_id, pictures)
        mixed = cv2.addWeighted(new, share, old, 1 - share, 0)
        return np.asarray(mixed, np.uint8)

    def _still_scene(self, scene_id: str, pictures: Mapping[str, Picture]) -> Plane:
        if scene_id not in self._composers:
            self._composers[scene_id] = Composer(self._plans[scene_id], None, self._shrink)
        return self._composers[scene_id].compose(pictures)
