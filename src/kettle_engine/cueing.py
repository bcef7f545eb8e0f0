"""What is changed while a take is recorded: cues made, followed, and what they come to."""

from collections import deque
from collections.abc import Mapping
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

from kettle_core.errors import EngineError, RigError
from kettle_core.program.close_up import FOLLOW_MS, REST_NS, part_following, part_near
from kettle_core.program.cues import CloseUp, Cue, GoOn, Pause
from kettle_core.program.replay import Following, Moment
from kettle_core.rig.rig import Input, Rig
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.take.cue_orders import first_cue, order_cue

TIMES = (2.0, 3.0)
# Who shows the take needs those that may still be seen coming in; more are not kept, as a layer
# that is dragged makes ten a second.
MOMENTS = 8
# A recorder that takes the place of a dead one reads the take's cues; what it may not find there
# is newer than so many, a minute of a layer that is dragged.
KEPT_CUES = 600
# Where each pointer was last, in px of its input's picture.
Pointers = Mapping[str, tuple[float, float]]


@dataclass(frozen=True)
class TakeCues:
    """What is to be seen of a take that is recorded: since when on the master clock, its last
    moments, and where it lies.
    """

    start_ns: int
    moments: tuple[Moment, ...]
    folder: Path = Path()

    def and_then(self, cue: Cue) -> "TakeCues":
        """With what one more cue, which the engine has followed, has come to."""
        following = Following(self.moments[-1].state, list(self.moments))
        # The ends of pauses change nothing that is seen.
        if not isinstance(cue, Pause | GoOn):
            following.follow(cue)
        return replace(self, moments=tuple(following.moments[-MOMENTS:]))


@dataclass(frozen=True)
class PlannedStep:
    """A step of the running order: its name, and the scene it begins with, by id, if any.

    `id` stays with a step whatever it is called and wherever it stands.
    """

    id: str
    name: str
    scene: str = ""


class Cueing:
    """The cues of one take, from the scene and the step it begins with on; times are record time.

    Raises EngineError where there is no such step.
    """

    def __init__(
        self,
        rig: Rig,
        scene: str = "",
        steps: tuple[PlannedStep, ...] = (),
        first_step: str = "",
    ) -> None:
        # The newest, see `KEPT_CUES`; and how many there are in all.
        self.cues: deque[Cue] = deque(maxlen=KEPT_CUES)
        self.made = 0
        self.steps = steps
        self._step_id = ""
        self.following = Following.begin(rig)
        self._moved_ns = 0
        if rig.scenes:
            self._keep(first_cue(rig, scene))
        if first_step:
            # With the scene that was asked for, which may be another one than the step's.
            step = steps[self._number_of(first_step)]
            self.order("step", 0, {"step": step.name}, {})
            self._step_id = step.id

    def order(self, what: str, at_ns: int, values: Mapping[str, Any], pointers: Pointers) -> Cue:
        """Make a cue and follow it. Raises RigError, and nothing has changed then.

        A close-up without a part goes nearer to the pointer, or back.
        """
        if what == "close-up" and "part" not in values:
            cue: Cue = self._toggled(at_ns, values, pointers)
        else:
            cue = order_cue(self.following.state.rig, what, at_ns, values)
        return self._keep(cue)

    def begin_step(self, at_ns: int, wanted: str = "") -> list[Cue]:
        """Begin a step, by id or name, or the next one, with its scene where that is another one.

        Raises EngineError where there is no such step.
        """
        number = self._number_of(wanted) if wanted else self._number_of(self._step_id, -1) + 1
        if number >= len(self.steps):
            raise EngineError(
                "The running order has no step after this one."
                if self.steps
                else "This tutorial has no running order, so there is no next step."
            )
        step = self.steps[number]
        found = [self.order("step", at_ns, {"step": step.name}, {})]
        self._step_id = step.id
        scenes = {scene.id for scene in self.following.state.rig.scenes}
        if step.scene in scenes - {self.following.state.scene_id}:
            found.append(self.order("scene", at_ns, {"scene": step.scene}, {}))
        return found

    def _number_of(self, wanted: str, otherwise: int | None = None) -> int:
        for number, step in enumerate(self.steps):
            if wanted in (step.id, step.name):
                return number
        if otherwise is None:
            raise EngineError(f"The running order has no step “{wanted}”.")
        return otherwise

    def _keep(self, cue: Cue) -> Cue:
        self.following.follow(cue)
        del self.following.moments[:-MOMENTS]
        self.cues.append(cue)
        self.made += 1
        return cue

    def _toggled(self, at_ns: int, values: Mapping[str, Any], pointers: Pointers) -> CloseUp:
        near = dict(self.following.state.near)
        item = self._closer_input(values, pointers, set(near))
        times = values.get("times", TIMES[0])
        if times not in TIMES:
            raise RigError(f"A close-up is 2 or 3 times as large, got {times!r}.", "times")
        if item.id in near and abs(item.size[0] / near[item.id].width - times) < 0.1:
            return CloseUp(at_ns, item.id, None)
        middle = (item.size[0] / 2, item.size[1] / 2)
        self._moved_ns = at_ns
        return CloseUp(at_ns, item.id, part_near(item.size, times, *pointers.get(item.id, middle)))

    def _closer_input(self, values: Mapping[str, Any], pointers: Pointers, near: set[str]) -> Input:
        """The input that is named, or the display in the scene whose pointer is known."""
        state = self.following.state
        if "input" in values:
            return state.rig.input(str(values["input"]))
        seen = [state.rig.input(x.input_id) for x in state.resolved().layers]
        screens = [i for i in seen if i.is_screen]
        for wanted in (near, set(pointers)):
            screens = [i for i in screens if i.id in wanted] or screens
        if not screens:
            raise EngineError("No display is in this scene, so there is nothing to go nearer to.")
        return max(screens, key=lambda i: i.size[0] * i.size[1])

    def follow_pointers(self, at_ns: int, pointers: Pointers) -> Cue | None:
        """A cue that takes a close-up to where its pointer has gone, if one must be."""
        state = self.following.state
        if self.following.is_paused or at_ns - self._moved_ns < REST_NS:
            return None
        for name, part in state.near:
            at = pointers.get(name)
            moved = at and part_following(part, state.rig.input(name).size, *at)
            if moved:
                self._moved_ns = at_ns
                return self._keep(CloseUp(at_ns, name, moved, FOLLOW_MS))
        return None

    def status(self, at_ns: int) -> dict[str, Any]:
        """What the cues have come to, for pages and the command line."""
        following, state = self.following, self.following.state
        paused_ns = following.paused_ns(at_ns)
        return {
            # Who hears of it by two ways knows by this which is the newer one.
            "cues": self.made,
            "scene": state.scene_id,
            "hidden": sorted(state.hidden),
            "muted": sorted(state.muted),
            "near": [name for name, _ in state.near],
            "layers": [asdict(x) for x in state.seen_layers()],
            "paused": following.is_paused,
            "paused_s": paused_ns / NS_PER_S,
            "take_s": max(0, at_ns - paused_ns) / NS_PER_S,
            "marks": len(following.marks),
            "step": following.steps[-1].step if following.steps else "",
            "step_id": self._step_id,
            "steps": [[step.id, step.name] for step in self.steps],
            "step_s": self._step_s(at_ns, paused_ns),
        }

    def _step_s(self, at_ns: int, paused_ns: int) -> float:
        """How long the present step has been going on, without pauses."""
        if not self.following.steps:
            return 0.0
        since_ns = self.following.steps[-1].at_ns
        before_ns = self.following.paused_ns(since_ns)
        return (at_ns - paused_ns - since_ns + before_ns) / NS_PER_S
