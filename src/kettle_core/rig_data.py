"""Rigs as plain data: written, and read back with every field checked."""

import re
from collections.abc import Mapping
from fractions import Fraction
from typing import Any

from kettle_core.devices import PICTURE_KINDS, SOUND_KINDS, STILL_KINDS, Mode
from kettle_core.errors import RigError
from kettle_core.hearing import DELAY_LIMITS_MS, GAIN_LIMITS_DB
from kettle_core.layout import Box
from kettle_core.rig import (
    FONTS,
    FRAME_RATES,
    LAYER_SHAPES,
    MAX_INPUTS,
    TURNS,
    Card,
    Format,
    Input,
    Layer,
    Looks,
    Rig,
    Scene,
    SceneSound,
    Tone,
)

VERSION = 2
NAME_PATTERN = re.compile(r"[a-z][a-z0-9-]{0,39}")
STILL_PATTERN = re.compile(r"[0-9a-f]{64}")
COLOUR_PATTERN = re.compile(r"#[0-9a-f]{6}")
RATE_PATTERN = re.compile(r"\d{1,7}(/\d{1,7})?")
SCENE_GAIN_LIMITS_DB = (-60.0, 30.0)
TEXT_LIMIT = 600
TEXT_SIZE_LIMITS_PX = (12, 400)
MAX_FPS = 240


def rig_to_dict(rig: Rig) -> dict[str, Any]:
    """Plain data that `rig_from_dict` reads back to an equal rig."""
    return {
        "version": VERSION,
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


def mode_from_dict(data: Mapping[str, Any]) -> Mode:
    """Read what `mode_to_dict` wrote. Raises RigError."""
    return _read_mode(_Reader(data, "mode"), "width" in data)


def _input_to_dict(item: Input) -> dict[str, Any]:
    data: dict[str, Any] = {
        "id": item.id,
        "name": item.name,
        "kind": item.kind,
        "device": item.device,
        "mode": mode_to_dict(item.mode),
        "recorded": item.recorded,
        "on": item.on,
    }
    if item.is_picture:
        looks = item.looks
        data["looks"] = {
            "crop": _box_to_list(looks.crop) if looks.crop else None,
            "turn": looks.turn,
            "mirrored": looks.mirrored,
            "pointer": looks.pointer,
            "keys": looks.keys,
            "opacity": looks.opacity,
        }
    else:
        data["tone"] = vars(item.tone).copy()
    if item.kind == "picture":
        data["still"] = item.still
    if item.card:
        data["card"] = vars(item.card).copy()
    return data


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

    Version 1 had neither `on`, `looks` nor `tone`; they are filled in.

    Raises
    ------
    RigError
        With the field's path, what was expected and what came.
    """
    reader = _Reader(data, "")
    version = reader.number("version", 1, VERSION)
    inputs = tuple(_read_input(r, version) for r in reader.rows("inputs", MAX_INPUTS))
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
            fps=format_reader.rate("fps", FRAME_RATES),
            sound_kbps=format_reader.number("sound_kbps", 32, 512),
        ),
    )
    _check_devices(rig)
    _check_scenes(rig)
    return rig


def _check_devices(rig: Rig) -> None:
    modes: dict[str, Mode] = {}
    for number, item in enumerate(rig.inputs):
        if item.device and modes.setdefault(item.device, item.mode) != item.mode:
            raise RigError(
                f"“{item.name}” wants another mode of a device that is used already; "
                "a device runs in one mode.",
                f"inputs[{number}].mode",
            )


def _check_scenes(rig: Rig) -> None:
    if not rig.scenes:
        raise RigError("A rig needs at least one scene; make one.", "scenes")
    if len({s.id for s in rig.scenes}) != len(rig.scenes):
        raise RigError("Two scenes of the rig have the same id; each needs its own.", "scenes")
    for number, scene in enumerate(rig.scenes):
        where = f"scenes[{number}]"
        for layer in scene.layers:
            source = rig.input(layer.input_id)
            if not source.is_picture:
                raise RigError(f"“{source.name}” is a sound and cannot be a layer.", where)
            if not rig.format.frame.holds(layer.box):
                raise RigError(f"The layer of “{source.name}” lies outside the frame.", where)
            if not Box(0, 0, *source.size).holds(layer.crop):
                raise RigError(f"The crop of “{source.name}” lies outside its picture.", where)
        for sound in scene.sounds:
            if rig.input(sound.input_id).is_picture:
                raise RigError(f"“{sound.input_id}” is a picture and cannot be heard.", where)


def _read_mode(mode: "_Reader", is_picture: bool, still: bool = False) -> Mode:
    if is_picture:
        return Mode(
            width=mode.even("width", 2, 7680),
            height=mode.even("height", 2, 7680),
            fps=Fraction(0) if still else mode.rate("fps"),
        )
    return Mode(
        sample_rate_hz=mode.number("sample_rate_hz", 8000, 192_000),
        channels=mode.number("channels", 1, 2),
    )


def _read_input(reader: "_Reader", version: int) -> Input:
    kind = reader.choice("kind", PICTURE_KINDS + SOUND_KINDS)
    is_picture, still = kind in PICTURE_KINDS, kind in STILL_KINDS
    mode = _read_mode(reader.part("mode"), is_picture, still)
    looks, tone = Looks(), Tone()
    if version > 1 and is_picture:
        looks = _read_looks(reader.part("looks"), mode)
    elif version > 1:
        tone = _read_tone(reader.part("tone"))
    return Input(
        id=reader.key("id"),
        name=reader.text("name"),
        kind=kind,
        device="" if still else reader.text("device", 200),
        mode=mode,
        recorded=reader.truth("recorded"),
        on=version == 1 or reader.truth("on"),
        looks=looks,
        tone=tone,
        still=reader.matching("still", STILL_PATTERN, "64 digits 0-9 a-f")
        if kind == "picture"
        else "",
        card=_read_card(reader.part("card")) if kind == "text" else None,
    )


def _read_looks(reader: "_Reader", mode: Mode) -> Looks:
    crop = reader.box("crop") if reader.value("crop") is not None else None
    if crop and not Box(0, 0, mode.width, mode.height).holds(crop):
        raise reader.wrong("crop", f"inside {mode.width} × {mode.height} px", _box_to_list(crop))
    turn = reader.number("turn", 0, 270)
    if turn not in TURNS:
        raise reader.wrong("turn", "0, 90, 180 or 270", turn)
    return Looks(
        crop,
        turn,
        reader.truth("mirrored"),
        reader.truth("pointer"),
        reader.truth("keys"),
        reader.number("opacity", 0, 100),
    )


def _read_tone(reader: "_Reader") -> Tone:
    return Tone(
        reader.decimal("gain_db", *GAIN_LIMITS_DB),
        reader.truth("mono"),
        reader.decimal("delay_ms", *DELAY_LIMITS_MS),
    )


def _read_card(reader: "_Reader") -> Card:
    return Card(
        reader.text("text", TEXT_LIMIT),
        reader.choice("font", FONTS),
        reader.number("size_px", *TEXT_SIZE_LIMITS_PX),
        reader.matching("colour", COLOUR_PATTERN, "a colour such as #1d2b33"),
        reader.value("backdrop")
        and reader.matching("backdrop", COLOUR_PATTERN, "a colour such as #1d2b33"),
    )


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
        SceneSound(r.key("input"), r.decimal("gain_db", *SCENE_GAIN_LIMITS_DB), r.truth("heard"))
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

    def text(self, name: str, most: int = 80) -> str:
        got = self.value(name)
        if not isinstance(got, str) or not 0 < len(got.strip()) <= most:
            raise self.wrong(name, f"a text of 1 to {most} characters", got)
        return got.strip()

    def matching(self, name: str, pattern: re.Pattern[str], expected: str) -> str:
        got = self.value(name)
        if not isinstance(got, str) or not pattern.fullmatch(got):
            raise self.wrong(name, expected, got)
        return got

    def key(self, name: str) -> str:
        return self.matching(name, NAME_PATTERN, "a-z, 0-9 and -, 1 to 40 characters")

    def choice(self, name: str, choices: tuple[str, ...], expected: str = "one of ") -> str:
        got = self.value(name)
        if got not in choices:
            raise self.wrong(name, expected + ", ".join(choices), got)
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

    def rate(self, name: str, choices: tuple[str, ...] = ()) -> Fraction:
        if choices:
            return Fraction(self.choice(name, choices, "one of the frame rates "))
        expected = f"a frame rate from 1 to {MAX_FPS}, such as 30 or 30000/1001"
        top, _, bottom = self.matching(name, RATE_PATTERN, expected).partition("/")
        if int(bottom or 1) == 0 or not 1 <= Fraction(int(top), int(bottom or 1)) <= MAX_FPS:
            raise self.wrong(name, expected, self.value(name))
        return Fraction(int(top), int(bottom or 1))

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
