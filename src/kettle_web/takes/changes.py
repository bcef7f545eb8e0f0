"""What the forms of the take page change: what was changed afterwards in, the same out."""

from collections.abc import Callable
from dataclasses import dataclass

from django.http import QueryDict

from kettle_core.errors import CueError
from kettle_core.program.afterwards import (
    Afterwards,
    Recorded,
    moved_cue,
    named_mark,
    nudged,
    with_close_up,
    with_cue,
    with_stretch,
    without_cue,
)
from kettle_core.program.close_up import Way, close_up_cues, part_seen
from kettle_core.program.cues import (
    CloseUp,
    Cue,
    Hide,
    Mark,
    Mute,
    Place,
    Show,
    ToScene,
    Unmute,
)
from kettle_core.program.replay import replay
from kettle_core.rig.rig import Input
from kettle_core.rig.scene_changes import layer_of
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import Layer
from kettle_core.timing.ticks import NS_PER_S
from kettle_core.timing.time_map import TimeMap, to_ns
from kettle_web.frame.asking import WrongFieldError
from kettle_web.frame.editing import Made
from kettle_web.takes.forms import (
    TIME_WORDS,
    CloseUpForm,
    LayerForm,
    MarkForm,
    NudgeForm,
    PlaceForm,
)

Changed = Made[Afterwards]
# What begins at the head of a stretch, and what takes it back at its end.
Switch = Callable[[int, str], Cue]
SWITCHES: dict[str, tuple[Switch, Switch, str]] = {
    "hide": (Hide, Show, "hidden"),
    "show": (Show, Hide, "shown"),
    "mute": (Mute, Unmute, "muted"),
    "unmute": (Unmute, Mute, "heard"),
}


@dataclass(frozen=True)
class Asked:
    """A form of the page, with what the take was recorded as and its pauses closed."""

    post: QueryDict
    was: Recorded
    take_time: TimeMap
    way_of: Callable[[str], Way] = lambda _: ()

    def at_ns(self, seconds: float) -> int:
        """Record time of a time of the take; its end is the end of what was recorded."""
        at_ns = round(seconds * NS_PER_S)
        if at_ns >= self.take_time.length_ns:
            if at_ns > self.take_time.length_ns + NS_PER_S // 10:
                raise CueError(
                    f"{seconds:.3f} s lies outside of the take, which is "
                    f"{float(self.take_time.length_ns) / NS_PER_S:.3f} s long.",
                    "at",
                )
            return self.was.length_ns
        return to_ns(self.take_time.source_at(at_ns)[1])

    def length_words(self) -> str:
        """How long the stretch is that is meant, as it was seen: pauses closed."""
        form = PlaceForm(self.post)
        form.is_valid()
        return f"for {form.cleaned_data['until_s'] - form.cleaned_data['at_s']:.1f} s"

    def place(self) -> tuple[int, int | None]:
        """The place or stretch that is meant, in record time. Raises WrongFieldError."""
        form = PlaceForm(self.post)
        if not form.is_valid():
            raise CueError(TIME_WORDS, "at")
        at_s, until_s = form.cleaned_data["at_s"], form.cleaned_data["until_s"]
        until_ns = None if until_s is None or until_s == at_s else self.at_ns(until_s)
        return self.at_ns(at_s), until_ns


def change(now: Afterwards, asked: Asked) -> Changed:
    """The change that a form asks for. Raises CueError, WrongFieldError."""
    part = asked.post.get("part", "")
    if part in SWITCHES:
        return _switch(now, asked)
    if part not in PARTS:
        raise CueError("This can't be changed here. Reload the page.", "part")
    return PARTS[part](now, asked)


def _mark(now: Afterwards, asked: Asked) -> Changed:
    text = _text(asked, "new-mark")
    at_ns, until_ns = asked.place()
    made = with_cue(now, asked.was, Mark(at_ns, text, until_ns))
    return made, f"mark “{text}” added" if text else "mark added"


def _name(now: Afterwards, asked: Asked) -> Changed:
    called = asked.post.get("cue", "")
    text = _text(asked, f"mark:{called}")
    return named_mark(now, asked.was, called, text), f"mark called “{text}”"


def _move(now: Afterwards, asked: Asked) -> Changed:
    called = asked.post.get("cue", "")
    return moved_cue(now, asked.was, called, asked.place()[0]), f"{_words(called)} moved"


def _out(now: Afterwards, asked: Asked) -> Changed:
    called = asked.post.get("cue", "")
    return without_cue(now, asked.was, called), f"{_words(called)} taken out"


def _switch(now: Afterwards, asked: Asked) -> Changed:
    item = _input_of(asked)
    begins, ends, words = SWITCHES[asked.post.get("part", "")]
    at_ns, until_ns = asked.place()
    if until_ns is None:
        return with_cue(now, asked.was, begins(at_ns, item.id)), f"{item.name} {words}"
    made = with_stretch(now, asked.was, begins(at_ns, item.id), ends(until_ns, item.id))
    return made, f"{item.name} {words} {asked.length_words()}"


def _scene(now: Afterwards, asked: Asked) -> Changed:
    scene = next((s for s in asked.was.rig.scenes if s.id == asked.post.get("scene")), None)
    if scene is None:
        raise CueError("This scene is not in the take. Reload the page.", "scene")
    at_ns, until_ns = asked.place()
    if until_ns is None:
        return with_cue(now, asked.was, ToScene(at_ns, scene.id)), f"scene “{scene.name}”"
    state = replay(asked.was.rig, now.cues_now(asked.was.cues)).state_at(until_ns)
    back = ToScene(until_ns, state.scene_id)
    made = with_stretch(now, asked.was, ToScene(at_ns, scene.id), back)
    return made, f"scene “{scene.name}” {asked.length_words()}"


def _placed(now: Afterwards, asked: Asked) -> Changed:
    """A layer of the scene that is seen there lies elsewhere: from there on, or for a stretch."""
    form = LayerForm(asked.post)
    if not form.is_valid():
        raise CueError("This layer can't be placed so. Reload the page.", "box")
    scene, layer = form.cleaned_data["scene"], form.cleaned_data["layer"]
    at_ns, until_ns = asked.place()
    placed = Place(at_ns, scene, layer, form.box, form.cleaned_data["turn"])
    said = replay(asked.was.rig, now.cues_now(asked.was.cues))
    there = said.state_at(at_ns if until_ns is None else until_ns).rig
    before = layer_of(there.scene(scene), layer)
    name = there.input(before.input_id).name
    if until_ns is None:
        return with_cue(now, asked.was, placed), f"{name} placed"
    back = Place(until_ns, scene, layer, before.box, before.turn)
    made = with_stretch(now, asked.was, placed, back)
    return made, f"{name} placed {asked.length_words()}"


def _near(now: Afterwards, asked: Asked) -> Changed:
    """The picture of an input nearer to its pointer: for a stretch, or from there on."""
    form = CloseUpForm(asked.post)
    if not form.is_valid():
        raise WrongFieldError(close_up=form)
    item = _input_of(asked)
    at_ns, until_ns = asked.place()
    values = form.cleaned_data
    drawn = None
    if values["times"] == "px":
        times = _times(now, asked, item, at_ns)
    elif values["times"] == "drawn":
        drawn = _drawn(now, asked, item, at_ns, form.drawn)
        times = item.size[0] / drawn.width
    else:
        times = float(values["times"])
    last_ns = asked.was.length_ns if until_ns is None else until_ns
    cues = close_up_cues(
        item.id,
        item.size,
        times,
        (at_ns, last_ns),
        asked.way_of(item.id),
        values["follows"],
        values["length_ms"],
        drawn,
    )
    made = with_close_up(now, asked.was, cues, last_ns)
    length = "" if until_ns is None else f" {asked.length_words()}"
    return made, f"{item.name} {times:.3g} × as near{length}"


def _drawn(now: Afterwards, asked: Asked, item: Input, at_ns: int, seen: Box | None) -> Box:
    """The part of a picture that was drawn over the program."""
    layer = _layer_there(now, asked, item, at_ns)
    if seen is None:
        raise CueError("Nothing was drawn yet. Draw over the program what is to be seen.", "times")
    if layer.turn % 360:
        raise CueError(f"{item.name} is turned in this scene; choose how near instead.", "times")
    part = part_seen(layer, seen)
    if part is None:
        raise CueError(f"What was drawn is beside {item.name}. Draw over it.", "times")
    return part


def _layer_there(now: Afterwards, asked: Asked, item: Input, at_ns: int) -> Layer:
    """The foremost layer of an input that is seen at a time."""
    state = replay(asked.was.rig, now.cues_now(asked.was.cues)).state_at(at_ns)
    layers = [x for x in state.resolved().layers if x.input_id == item.id]
    if not layers:
        raise CueError(f"{item.name} is not seen here, so it can't be gone nearer to.", "input")
    return layers[-1]


def _times(now: Afterwards, asked: Asked, item: Input, at_ns: int) -> float:
    """How many times larger a picture is when its px are those of the frame."""
    times = item.size[0] / _layer_there(now, asked, item, at_ns).box.width
    if times <= 1:
        raise CueError(f"{item.name} is shown with all its px here already.", "times")
    return times


def _far(now: Afterwards, asked: Asked) -> Changed:
    item = _input_of(asked)
    cue = CloseUp(asked.place()[0], item.id, None)
    return with_cue(now, asked.was, cue), f"all of {item.name} again"


def _nudge(now: Afterwards, asked: Asked) -> Changed:
    track = asked.post.get("track", "")
    form = NudgeForm(_by_step(now, asked, track))
    if not form.is_valid():
        raise WrongFieldError(**{f"nudge:{track}": form})
    ms = form.cleaned_data["ms"]
    made = nudged(now, asked.was, track, round(ms, 3))
    item = next((i for i in asked.was.rig.inputs if i.id == track), None)
    name = item.name if item else track
    return made, f"{name} {ms:+.1f} ms" if ms else f"{name} as measured"


def _by_step(now: Afterwards, asked: Asked, track: str) -> QueryDict:
    """The form with a button's step added to what is there now."""
    post = asked.post.copy()
    by = post.get("by", "")
    if by:
        try:
            post["ms"] = str(round(now.nudge_ms(track) + float(by[:12]), 3))
        except ValueError as error:
            raise CueError("A track can't be moved by this. Reload the page.", "ms") from error
    return post


def _original(now: Afterwards, asked: Asked) -> Changed:
    return Afterwards(), "back to what was recorded"


PARTS: dict[str, Callable[[Afterwards, Asked], Changed]] = {
    "mark": _mark,
    "name": _name,
    "move": _move,
    "out": _out,
    "scene": _scene,
    "place": _placed,
    "near": _near,
    "far": _far,
    "nudge": _nudge,
    "original": _original,
}


def _text(asked: Asked, part: str) -> str:
    form = MarkForm(asked.post)
    if not form.is_valid():
        raise WrongFieldError(**{part: form})
    return str(form.cleaned_data["text"])


def _words(called: str) -> str:
    """What a cue is called in a list of changes."""
    return {"scene": "scene change"}.get(called.partition("@")[0], called.partition("@")[0])


def _input_of(asked: Asked) -> Input:
    item = next((i for i in asked.was.rig.inputs if i.id == asked.post.get("input")), None)
    if item is None:
        raise CueError("This input is not in the take. Reload the page.", "input")
    return item
