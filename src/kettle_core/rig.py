"""The rig as values: inputs, scenes, format; read from and written to plain data."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any

from kettle_core.devices import PICTURE_KINDS, SOUND_KINDS, DeviceInfo, Mode
from kettle_core.errors import RigError
from kettle_core.layout import Box, corner_square, crop_to_aspect, fit_inside

FRAME_RATES = ("15", "24000/1001", "24", "25", "30000/1001", "30", "48", "50", "60000/1001", "60")
FRAME_SIZES = ((1920, 1080), (1280, 720), (854, 480))
LAYER_SHAPES = ("rectangle", "circle")
NAME_PATTERN = re.compile(r"[a-z][a-z0-9-]{0,39}")
GAIN_RANGE_DB = (-60.0, 30.0)
MAX_INPUTS = 64


@dataclass(frozen=True)
class Input:
    """Something that is seen or heard. `id` also names its track."""

    id: str
    name: str
    kind: str
    device: str
    mode: Mode
    recorded: bool = True

    @property
    def is_picture(self) -> bool:
        """Whether the input is seen rather than heard."""
        return self.kind in PICTURE_KINDS


@dataclass(frozen=True)
class Layer:
    """An input placed in a scene: `box` in frame pixels, `crop` in the input's pixels."""

    input_id: str
    box: Box
    crop: Box
    shape: str = "rectangle"
    shown: bool = True


@dataclass(frozen=True)
class SceneSound:
    """An input in the mix of a scene; one that is not heard keeps its gain."""

    input_id: str
    gain_db: float = 0.0
    heard: bool = True


@dataclass(frozen=True)
class Scene:
    """A named composition; layers lie in order, the first at the back."""

    id: str
    name: str
    layers: tuple[Layer, ...]
    sounds: tuple[SceneSound, ...]


@dataclass(frozen=True)
class Format:
    """How the program is written."""

    frame_width: int = 1920
    frame_height: int = 1080
    fps: Fraction = Fraction(30)
    sound_kbps: int = 192


@dataclass(frozen=True)
class Rig:
    """Everything that is set up once and used again."""

    name: str
    inputs: tuple[Input, ...]
    scenes: tuple[Scene, ...]
    format: Format

    def input(self, input_id: str) -> Input:
        """The input of an id. Raises RigError."""
        for candidate in self.inputs:
            if candidate.id == input_id:
                return candidate
        raise RigError(f"The rig has no input “{input_id}”.", "inputs")

    def voice_in(self, scene: Scene) -> Input | None:
        """The first microphone heard in a scene, or None: then the scene has no voice."""
        heard = {sound.input_id for sound in scene.sounds if sound.heard}
        for candidate in self.inputs:
            if candidate.kind == "microphone" and candidate.id in heard:
                return candidate
        return None


def first_scene(name: str, inputs: tuple[Input, ...], format_: Format) -> Scene:
    """A scene to begin with: the first display whole, the first webcam as a circle in a corner.

    Every sound is heard; a system-audio feed lies 12 dB lower, under the voice.
    """
    frame = Box(0, 0, format_.frame_width, format_.frame_height)
    layers = []
    display = next((i for i in inputs if i.kind == "display"), None)
    webcam = next((i for i in inputs if i.kind == "webcam"), None)
    if display:
        box = fit_inside(display.mode.width, display.mode.height, frame)
        layers.append(Layer(display.id, box, Box(0, 0, display.mode.width, display.mode.height)))
    if webcam:
        crop = crop_to_aspect(webcam.mode.width, webcam.mode.height, 1, 1)
        box = corner_square(frame.width, frame.height) if display else frame
        layers.append(Layer(webcam.id, box, crop, "circle"))
    sounds = tuple(
        SceneSound(i.id, -12.0 if i.kind == "system-audio" else 0.0)
        for i in inputs
        if i.kind in SOUND_KINDS
    )
    return Scene("scene-1", name, tuple(layers), sounds)


def rig_of_devices(name: str, devices: Sequence[DeviceInfo]) -> Rig:
    """A rig of all that is plugged in, each at its first mode, with one scene."""
    inputs = tuple(Input(d.id, d.name, d.kind, d.id, d.modes[0]) for d in devices)
    format_ = Format()
    return Rig(name, inputs, (first_scene("Sheet and me", inputs, format_),), format_)


def with_crosspoint(rig: Rig, input_id: str, what: str, scene_id: str = "") -> Rig:
    """The rig with one crosspoint of the patch sheet changed over.

    Parameters
    ----------
    rig : Rig
    input_id : str
    what : "recorded", or "seen" / "heard" in a scene where the input has a place
    scene_id : str, for "seen" and "heard"

    Raises
    ------
    RigError
        If there is no such crosspoint.
    """
    rig.input(input_id)
    if what == "recorded":
        inputs = tuple(
            replace(i, recorded=not i.recorded) if i.id == input_id else i for i in rig.inputs
        )
        return replace(rig, inputs=inputs)
    scene = next((s for s in rig.scenes if s.id == scene_id), None)
    if scene is None or what not in ("seen", "heard"):
        raise RigError(f"The patch sheet has no crosspoint “{what}” in “{scene_id}”.", "scenes")
    layers = tuple(
        replace(x, shown=not x.shown) if what == "seen" and x.input_id == input_id else x
        for x in scene.layers
    )
    sounds = tuple(
        replace(x, heard=not x.heard) if what == "heard" and x.input_id == input_id else x
        for x in scene.sounds
    )
    if layers == scene.layers and sounds == scene.sounds:
        raise RigError(f"“{input_id}” has no place in the scene “{scene.name}”.", "scenes")
    changed = replace(scene, layers=layers, sounds=sounds)
    return replace(rig, scenes=tuple(changed if s is scene else s for s in rig.scenes))


def with_format(rig: Rig, format_: Format) -> Rig:
    """The rig with another format; layers are placed anew in proportion to the frame."""
    across = Fraction(format_.frame_width, rig.format.frame_width)
    down = Fraction(format_.frame_height, rig.format.frame_height)

    def placed(layer: Layer) -> Layer:
        box = layer.box
        left, top = round(box.left * across / 2) * 2, round(box.top * down / 2) * 2
        right, bottom = round(box.right * across / 2) * 2, round(box.bottom * down / 2) * 2
        room = Box(left, top, max(2, right - left), max(2, bottom - top))
        return replace(layer, box=fit_inside(box.width, box.height, room))

    scenes = tuple(replace(s, layers=tuple(placed(x) for x in s.layers)) for s in rig.scenes)
    return replace(rig, format=format_, scenes=scenes)


def rig_to_dict(rig: Rig) -> dict[str, Any]:
    """Plain data that `rig_from_dict` reads back to an equal rig."""
    return {
        "version": 1,
        "name": rig.name,
        "inputs": [_input_to_dict(i) for i in rig.inputs],
        "scenes": [_scene_to_dict(s) for s in rig.scenes],
        "format": {
            "frame_width": rig.format.frame_width,
            "frame_height": rig.format.frame_height,
            "fps": str(rig.format.fps),
            "sound_kbps": rig.format.sound_kbps,
        },
    }


def mode_to_dict(mode: Mode) -> dict[str, Any]:
    """A mode as plain data: frame size and rate, or sample rate and channels."""
    if mode.width:
        return {"width": mode.width, "height": mode.height, "fps": str(mode.fps)}
    return {"sample_rate_hz": mode.sample_rate_hz, "channels": mode.channels}


def _input_to_dict(item: Input) -> dict[str, Any]:
    return {
        "id": item.id,
        "name": item.name,
        "kind": item.kind,
        "device": item.device,
        "mode": mode_to_dict(item.mode),
        "recorded": item.recorded,
    }


def _scene_to_dict(scene: Scene) -> dict[str, Any]:
    return {
        "id": scene.id,
        "name": scene.name,
        "layers": [
            {
                "input": layer.input_id,
                "box": _box_to_list(layer.box),
                "crop": _box_to_list(layer.crop),
                "shape": layer.shape,
                "shown": layer.shown,
            }
            for layer in scene.layers
        ],
        "sounds": [
            {"input": s.input_id, "gain_db": s.gain_db, "heard": s.heard} for s in scene.sounds
        ],
    }


def _box_to_list(box: Box) -> list[int]:
    return [box.left, box.top, box.width, box.height]


def rig_from_dict(data: Mapping[str, Any]) -> Rig:
    """Read a rig from plain data and check that it holds together.

    Raises
    ------
    RigError
        With the field's path, what was expected and what came.
    """
    reader = _Reader(data, "")
    version = reader.number("version", 1, 1)
    if version != 1:
        raise RigError(f"This rig is of version {version}; version 1 can be read.", "version")
    inputs = tuple(_read_input(r) for r in reader.rows("inputs", MAX_INPUTS))
    if not inputs:
        raise RigError("A rig needs at least one input; add one.", "inputs")
    if len({i.id for i in inputs}) != len(inputs):
        raise RigError("Two inputs of the rig have the same id; each needs its own.", "inputs")
    format_reader = reader.part("format")
    rig = Rig(
        name=reader.text("name"),
        inputs=inputs,
        scenes=tuple(_read_scene(r) for r in reader.rows("scenes", 64)),
        format=Format(
            frame_width=format_reader.even("frame_width", 64, 7680),
            frame_height=format_reader.even("frame_height", 64, 4320),
            fps=format_reader.rate("fps"),
            sound_kbps=format_reader.number("sound_kbps", 32, 512),
        ),
    )
    _check_scenes(rig)
    return rig


def _check_scenes(rig: Rig) -> None:
    if not rig.scenes:
        raise RigError("A rig needs at least one scene; make one.", "scenes")
    frame = Box(0, 0, rig.format.frame_width, rig.format.frame_height)
    for number, scene in enumerate(rig.scenes):
        where = f"scenes[{number}]"
        for layer in scene.layers:
            source = rig.input(layer.input_id)
            if not source.is_picture:
                raise RigError(f"“{source.name}” is a sound and cannot be a layer.", where)
            if not frame.holds(layer.box):
                raise RigError(f"The layer of “{source.name}” lies outside the frame.", where)
            if not Box(0, 0, source.mode.width, source.mode.height).holds(layer.crop):
                raise RigError(f"The crop of “{source.name}” lies outside its picture.", where)
        for sound in scene.sounds:
            if rig.input(sound.input_id).is_picture:
                raise RigError(f"“{sound.input_id}” is a picture and cannot be heard.", where)


def _read_input(reader: "_Reader") -> Input:
    kind = reader.choice("kind", PICTURE_KINDS + SOUND_KINDS)
    mode = reader.part("mode")
    if kind in PICTURE_KINDS:
        settings = Mode(
            width=mode.even("width", 16, 7680),
            height=mode.even("height", 16, 4320),
            fps=mode.rate("fps"),
        )
    else:
        settings = Mode(
            sample_rate_hz=mode.number("sample_rate_hz", 8000, 192_000),
            channels=mode.number("channels", 1, 2),
        )
    name, device = reader.text("name"), reader.text("device")
    return Input(reader.key("id"), name, kind, device, settings, reader.truth("recorded"))


def _read_scene(reader: "_Reader") -> Scene:
    layers = tuple(
        Layer(
            r.key("input"),
            r.box("box"),
            r.box("crop"),
            r.choice("shape", LAYER_SHAPES),
            r.truth("shown"),
        )
        for r in reader.rows("layers", 64)
    )
    sounds = tuple(
        SceneSound(r.key("input"), r.decimal("gain_db", *GAIN_RANGE_DB), r.truth("heard"))
        for r in reader.rows("sounds", 64)
    )
    return Scene(reader.key("id"), reader.text("name"), layers, sounds)


class _Reader:
    """Typed access to plain data that knows the path it stands at."""

    def __init__(self, data: Any, path: str) -> None:
        if not isinstance(data, Mapping):
            raise RigError(f"{path or 'The rig'} should be an object, got {data!r:.60}.", path)
        self._data = data
        self._path = path

    def _at(self, name: str) -> str:
        return f"{self._path}.{name}" if self._path else name

    def wrong(self, name: str, expected: str, got: object) -> RigError:
        return RigError(f"{self._at(name)} should be {expected}, got {got!r:.60}.", self._at(name))

    def value(self, name: str) -> Any:
        if name not in self._data:
            raise RigError(f"{self._at(name)} is missing from the rig.", self._at(name))
        return self._data[name]

    def text(self, name: str) -> str:
        got = self.value(name)
        if not isinstance(got, str) or not 0 < len(got.strip()) <= 80:
            raise self.wrong(name, "a text of 1 to 80 characters", got)
        return got.strip()

    def key(self, name: str) -> str:
        got = self.value(name)
        if not isinstance(got, str) or not NAME_PATTERN.fullmatch(got):
            raise self.wrong(name, "a-z, 0-9 and -, 1 to 40 characters", got)
        return got

    def choice(self, name: str, choices: tuple[str, ...]) -> str:
        got = self.value(name)
        if got not in choices:
            raise self.wrong(name, "one of " + ", ".join(choices), got)
        return str(got)

    def number(self, name: str, low: int, high: int) -> int:
        got = self.value(name)
        if not isinstance(got, int) or isinstance(got, bool) or not low <= got <= high:
            raise self.wrong(name, f"a whole number from {low} to {high}", got)
        return got

    def even(self, name: str, low: int, high: int) -> int:
        got = self.number(name, low, high)
        if got % 2:
            raise self.wrong(name, "an even number of px", got)
        return got

    def decimal(self, name: str, low: float, high: float) -> float:
        got = self.value(name)
        if not isinstance(got, int | float) or isinstance(got, bool) or not low <= got <= high:
            raise self.wrong(name, f"a number from {low:g} to {high:g}", got)
        return float(got)

    def truth(self, name: str) -> bool:
        got = self.value(name)
        if not isinstance(got, bool):
            raise self.wrong(name, "true or false", got)
        return got

    def rate(self, name: str) -> Fraction:
        got = self.value(name)
        if got not in FRAME_RATES:
            raise self.wrong(name, "one of the frame rates " + ", ".join(FRAME_RATES), got)
        return Fraction(str(got))

    def box(self, name: str) -> Box:
        got = self.value(name)
        if not isinstance(got, list) or len(got) != 4:
            raise self.wrong(name, "[left, top, width, height] in px", got)
        if not all(isinstance(v, int) and not isinstance(v, bool) and v % 2 == 0 for v in got):
            raise self.wrong(name, "four even numbers of px", got)
        if min(got[0], got[1]) < 0 or min(got[2], got[3]) < 2 or max(got) > 7680:
            raise self.wrong(name, "a box of at least 2 × 2 px inside the picture", got)
        return Box(*got)

    def part(self, name: str) -> "_Reader":
        return _Reader(self.value(name), self._at(name))

    def rows(self, name: str, most: int) -> list["_Reader"]:
        got = self.value(name)
        if not isinstance(got, list) or len(got) > most:
            raise self.wrong(name, f"a list of at most {most}", got)
        return [_Reader(row, f"{self._at(name)}[{n}]") for n, row in enumerate(got)]
