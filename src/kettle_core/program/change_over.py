"""Change-overs: one scene gives way to the next, frame by frame.

In a change-over both scenes are drawn and mixed, the new one's share growing from 0. In a glide
what is in both is drawn at the same place in both, on its way from the old to the new one: so
it moves while everything else fades.
"""

from collections import OrderedDict
from collections.abc import Mapping
from dataclasses import replace

import cv2
import numpy as np

from kettle_core.picture.compose import Composer
from kettle_core.picture.picture import Picture, Plane
from kettle_core.picture.resample import Shrink
from kettle_core.program.replay import CUT, Resolved
from kettle_core.scene.layout import Part
from kettle_core.scene.scene import ChangeOver, Layer
from kettle_core.scene.scene_plan import PlacedLayer, ScenePlan, plan_layers

KEPT_SCENES = 4


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
    crop = (mixed(getattr(a.crop, s), getattr(b.crop, s)) for s in sides)
    return replace(
        near,
        middle=(mixed(a.middle[0], b.middle[0]), mixed(a.middle[1], b.middle[1])),
        width=mixed(a.width, b.width),
        height=mixed(a.height, b.height),
        turn=(a.turn + turn * share) % 360,
        # Between pixels: in whole ones a slow close-up would go by jerks.
        crop=a.crop if a.crop == b.crop else Part(*crop),
        opacity=mixed(a.opacity, b.opacity),
    )


class ProgramComposer:
    """Draws a program's frames in any order; scenes that stand still are composed once.

    `stills` are the pictures of masks by name, `shrink` is as of `Resampler`; of scenes that stand
    still so many are `kept` ready.
    """

    def __init__(
        self,
        frame_size: tuple[int, int],
        stills: Mapping[str, Plane] | None = None,
        shrink: Shrink | None = None,
        kept: int = KEPT_SCENES,
    ) -> None:
        self._size, self._stills, self._shrink = frame_size, stills, shrink
        self._most = kept
        # Cues can make any number of scenes; as many are kept as are gone back and forth between.
        self._kept: OrderedDict[tuple[Layer, ...], Composer] = OrderedDict()
        self._gliding: list[Composer | None] = [None, None]

    def compose(
        self,
        scene: Resolved,
        pictures: Mapping[str, Picture],
        before: Resolved | None = None,
        change_over: ChangeOver = CUT,
        share: float = 1.0,
    ) -> Plane:
        """A frame of a scene, or of the change-over to it.

        Parameters
        ----------
        scene : what is shown, or comes in
        pictures : by input id
        before, change_over, share : what gives way, how, and how much of that is done, 0 to 1

        Returns
        -------
        (height * 3 / 2, width) uint8 ndarray
            An I420 buffer that is not to be written to.
        """
        if before is None or change_over.kind == "cut":
            return self._composer(scene).compose(pictures)
        if change_over.kind == "glide":
            plans = glided(self._plan(before), self._plan(scene), share)
            # What does not glide is taken over from the frame before.
            made = [Composer(p, b, self._shrink) for p, b in zip(plans, self._gliding, strict=True)]
            self._gliding = list(made)
            if plans[0] == plans[1]:  # nothing fades: all of it moves
                return made[1].compose(pictures)
            old, new = (composer.compose(pictures) for composer in made)
        else:
            old = self._composer(before).compose(pictures)
            new = self._composer(scene).compose(pictures)
        mixed = cv2.addWeighted(new, share, old, 1 - share, 0)
        return np.asarray(mixed, np.uint8)

    def _plan(self, scene: Resolved) -> ScenePlan:
        return plan_layers(scene.layers, self._size, self._stills)

    def _composer(self, scene: Resolved) -> Composer:
        found = self._kept.pop(scene.layers, None)
        if found is None:
            # It shares memory with the one that was used last, and layers that were only moved.
            last = next(reversed(self._kept.values()), None)
            found = Composer(self._plan(scene), last, self._shrink)
            if len(self._kept) >= self._most:
                self._kept.popitem(last=False)
        self._kept[scene.layers] = found
        return found
