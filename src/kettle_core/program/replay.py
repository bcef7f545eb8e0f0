"""What a take's cues make of its rig: what is seen and heard when, pauses, marks and steps."""

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from functools import singledispatch

from kettle_core.errors import RigError
from kettle_core.program.cues import (
    CloseUp,
    Cue,
    GoOn,
    Hide,
    Mark,
    Mute,
    Pause,
    Place,
    Show,
    Step,
    ToScene,
    Unmute,
)
from kettle_core.rig.rig import Rig
from kettle_core.rig.scene_changes import layer_of, with_layers
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import ChangeOver, Layer, Scene, SceneSound
from kettle_core.timing.ticks import NS_PER_S
from kettle_core.timing.time_map import Source, TimeMap, closed

CUT = ChangeOver("cut", 0)


@dataclass(frozen=True)
class Resolved:
    """A scene as it is seen and heard: layers from back to front, sounds with their gains."""

    scene_id: str
    layers: tuple[Layer, ...] = ()
    sounds: tuple[SceneSound, ...] = ()

    @classmethod
    def of(cls, rig: Rig, scene: Scene) -> "Resolved":
        """A scene of a rig as it was set up."""
        seen = rig.seen_in(scene)
        return cls(seen.id, seen.layers, seen.sounds)


@dataclass(frozen=True)
class SeenLayer:
    """A layer that is seen now, by its input's name: where it can be taken hold of."""

    id: str
    name: str
    box: Box
    turn: float


@dataclass(frozen=True)
class State:
    """What cues have made of a rig at one moment.

    `rig` has layers and spots as they were placed; an input in `hidden` or `muted` is neither
    seen nor heard in any scene; `near` has the parts that close-ups show, by input.
    """

    rig: Rig
    scene_id: str
    hidden: frozenset[str] = frozenset()
    muted: frozenset[str] = frozenset()
    near: tuple[tuple[str, Box], ...] = ()

    def resolved(self) -> Resolved:
        """What is seen and heard now."""
        scene = self.rig.seen_in(self.rig.scene(self.scene_id))
        near = dict(self.near)
        layers = tuple(
            closer(x, near[x.input_id]) if x.input_id in near else x
            for x in scene.layers
            if x.input_id not in self.hidden
        )
        sounds = tuple(x for x in scene.sounds if x.input_id not in self.muted)
        return Resolved(scene.id, layers, sounds)

    def seen_layers(self) -> tuple[SeenLayer, ...]:
        """The layers that are seen now, from back to front."""
        return tuple(
            SeenLayer(x.id, self.rig.input(x.input_id).name, x.box, x.turn)
            for x in self.resolved().layers
        )


@dataclass(frozen=True)
class Moment:
    """From a record time on a state holds; it comes in by a change-over."""

    at_ns: int
    state: State
    change_over: ChangeOver = CUT


@dataclass(frozen=True)
class Replay:
    """All that a take's cues say.

    `moments` begin at 0 with the rig as it was set up; `paused` are half-open stretches of
    record time; `left_out` says of each cue that could not be followed why.
    """

    moments: tuple[Moment, ...]
    paused: tuple[tuple[int, int | None], ...] = ()
    marks: tuple[Mark, ...] = ()
    steps: tuple[Step, ...] = ()
    left_out: tuple[str, ...] = ()

    def state_at(self, at_ns: int) -> State:
        """What holds at a record time."""
        return next((m for m in reversed(self.moments) if m.at_ns <= at_ns), self.moments[0]).state

    def take_time(self, take: Source, length_ns: int) -> TimeMap:
        """From take time, pauses closed, to record time; a pause without end lasts to the end."""
        away = [(start, length_ns if end is None else end) for start, end in self.paused]
        return closed(take, length_ns, away)


def closer(layer: Layer, part: Box) -> Layer:
    """A layer that shows a part of its picture: grown to the layer's shape, within its crop."""
    crop = layer.crop
    scale = max(part.width / crop.width, part.height / crop.height)
    if scale >= 1:
        return layer
    width = max(1, round(crop.width * scale))
    height = max(1, round(crop.height * scale))
    left = round(part.left + (part.width - width) / 2)
    top = round(part.top + (part.height - height) / 2)
    left = min(max(left, crop.left), crop.right - width)
    top = min(max(top, crop.top), crop.bottom - height)
    return replace(layer, crop=Box(left, top, width, height))


@dataclass
class Following:
    """What is known while cues are followed one after the other, in the order of their times."""

    state: State
    moments: list[Moment]
    paused: list[tuple[int, int | None]] = field(default_factory=list)
    # By their times; one that takes another's place comes last.
    marks: dict[int, Mark] = field(default_factory=dict)
    steps: list[Step] = field(default_factory=list)

    @classmethod
    def begin(cls, rig: Rig) -> "Following":
        """The state in which a take of a rig begins."""
        start = State(rig, rig.default_scene.id)
        return cls(start, [Moment(0, start)])

    def follow(self, cue: Cue) -> None:
        """Follow a cue. Raises RigError where it can't be followed; nothing has changed then."""
        _follow(cue, self)

    @property
    def is_paused(self) -> bool:
        """Whether a pause has no end yet."""
        return bool(self.paused) and self.paused[-1][1] is None

    def paused_ns(self, at_ns: int) -> int:
        """How much of the record time up to `at_ns` was paused."""
        ends = ((start, at_ns if end is None else end) for start, end in self.paused)
        return sum(max(0, min(end, at_ns) - start) for start, end in ends)

    def now(self, at_ns: int, state: State, change_over: ChangeOver = CUT) -> None:
        """Go over to a state, if that changes anything."""
        if state == self.state:
            return
        self.state = state
        self.moments.append(Moment(at_ns, state, change_over))


def replay(rig: Rig, cues: Iterable[Cue]) -> Replay:
    """Follow cues from the state in which a take begins.

    Parameters
    ----------
    rig : the rig as it was recorded
    cues : in any order; those of one time are followed in the order given

    Returns
    -------
    Replay
        A cue of something that the rig has not, or that changes nothing it could change, is
        left out and told.
    """
    following = Following.begin(rig)
    left_out = []
    for cue in sorted(cues, key=lambda cue: cue.at_ns):
        try:
            following.follow(cue)
        except RigError as error:
            at_s = cue.at_ns / NS_PER_S
            left_out.append(f"The cue “{cue.do}” at {at_s:.3f} s is left out. {error}")
    return Replay(
        tuple(following.moments),
        tuple(following.paused),
        tuple(following.marks.values()),
        tuple(following.steps),
        tuple(left_out),
    )


@singledispatch
def _follow(cue: object, f: Following) -> None:
    """Follow one cue. Raises RigError where it can't be followed."""
    raise RigError(f"There is no cue {cue}.")


@_follow.register
def _scene(cue: ToScene, f: Following) -> None:
    scene = f.state.rig.scene(cue.scene)
    way = cue.change_over or f.state.rig.change_over_to(scene)
    f.now(cue.at_ns, replace(f.state, scene_id=scene.id), way)


@_follow.register
def _show(cue: Show, f: Following) -> None:
    item = f.state.rig.input(cue.input)
    f.now(cue.at_ns, replace(f.state, hidden=f.state.hidden - {item.id}))


@_follow.register
def _hide(cue: Hide, f: Following) -> None:
    item = f.state.rig.input(cue.input)
    if not item.is_picture:
        raise RigError(f"“{item.name}” is a sound; it can be muted.", "input")
    f.now(cue.at_ns, replace(f.state, hidden=f.state.hidden | {item.id}))


@_follow.register
def _mute(cue: Mute, f: Following) -> None:
    item = f.state.rig.input(cue.input)
    if item.is_picture:
        raise RigError(f"“{item.name}” is a picture; it can be hidden.", "input")
    f.now(cue.at_ns, replace(f.state, muted=f.state.muted | {item.id}))


@_follow.register
def _unmute(cue: Unmute, f: Following) -> None:
    item = f.state.rig.input(cue.input)
    f.now(cue.at_ns, replace(f.state, muted=f.state.muted - {item.id}))


@_follow.register
def _place(cue: Place, f: Following) -> None:
    if cue.box.width < 1 or cue.box.height < 1:
        raise RigError("A layer is at least 1 × 1 px.", "box")
    layer = layer_of(f.state.rig.scene(cue.scene), cue.layer)
    placed = replace(layer, box=cue.box, turn=cue.turn)
    f.now(cue.at_ns, replace(f.state, rig=with_layers(f.state.rig, cue.scene, [placed])))


@_follow.register
def _close_up(cue: CloseUp, f: Following) -> None:
    item = f.state.rig.input(cue.input)
    near = {name: part for name, part in f.state.near if name != item.id}
    if cue.part is not None:
        width, height = item.size
        if cue.part.width < 1 or not Box(0, 0, width, height).holds(cue.part):
            raise RigError(
                f"“{item.name}” is {width} × {height} px; the part lies outside.", "part"
            )
        near[item.id] = cue.part
    way = ChangeOver("glide", cue.length_ms)
    f.now(cue.at_ns, replace(f.state, near=tuple(sorted(near.items()))), way)


@_follow.register
def _mark(cue: Mark, f: Following) -> None:
    # The words of a mark may follow: one of the same time takes its place.
    f.marks.pop(cue.at_ns, None)
    f.marks[cue.at_ns] = cue


@_follow.register
def _step(cue: Step, f: Following) -> None:
    f.steps.append(cue)


@_follow.register
def _pause(cue: Pause, f: Following) -> None:
    if f.is_paused:
        raise RigError("It was paused already.")
    f.paused.append((cue.at_ns, None))


@_follow.register
def _go_on(cue: GoOn, f: Following) -> None:
    if not f.is_paused:
        raise RigError("It was not paused.")
    f.paused[-1] = (f.paused[-1][0], cue.at_ns)
