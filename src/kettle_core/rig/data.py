"""Rigs as plain data: written, and read back with every field checked."""

from collections.abc import Mapping
from dataclasses import replace
from fractions import Fraction
from typing import Any

from kettle_core.errors import RigError
from kettle_core.rig.devices import PICTURE_KINDS, SOUND_KINDS, STILL_KINDS, Mode
from kettle_core.rig.reader import COLOUR_PATTERN, STILL_PATTERN, Reader
from kettle_core.rig.rig import (
    FONTS,
    FRAME_RATES,
    MAX_INPUTS,
    TURNS,
    Card,
    Format,
    Input,
    Looks,
    Rig,
)
from kettle_core.rig.scene_data import (
    box_to_list,
    read_change_over,
    read_scene,
    read_spot,
    scene_to_dict,
    spot_to_dict,
)
from kettle_core.rig.sound_changes import preset_stems
from kettle_core.rig.sound_data import read_sounds_together, read_tone, stem_to_dict
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import MAX_SCENES, MAX_SPOTS, Scene
from kettle_core.sound.tone import Tone

VERSION = 5
TEXT_LIMIT = 600
TEXT_SIZE_LIMITS_PX = (12, 400)


def rig_to_dict(rig: Rig) -> dict[str, Any]:
    """Plain data that `rig_from_dict` reads back to an equal rig."""
    return {
        "version": VERSION,
        "name": rig.name,
        "inputs": [_input_to_dict(i) for i in rig.inputs],
        "scenes": [scene_to_dict(s) for s in rig.scenes],
        "default_scene": rig.default_scene_id,
        "spots": [spot_to_dict(s) for s in rig.spots],
        "change_over": vars(rig.change_over).copy(),
        "stems": [stem_to_dict(t) for t in rig.stems],
        "ducking": vars(rig.ducking).copy(),
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
    return _read_mode(Reader(data, "mode"), "width" in data)


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
            "crop": box_to_list(looks.crop) if looks.crop else None,
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


def rig_from_dict(data: Mapping[str, Any]) -> Rig:
    """Read a rig from plain data and check that it holds together.

    Version 1 had neither `on`, `looks` nor `tone`; version 2 had neither spots, change-overs
    nor what a layer has beyond its box, crop and shape; version 3 neither stems, ducking
    nor what a tone has beyond gain, mono and delay. They are filled in. Version 4 called its
    stems sound tracks.

    Raises
    ------
    RigError
        With the field's path, what was expected and what came.
    """
    reader = Reader(data, "")
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
        scenes=tuple(
            _keyed(read_scene(r, version), n, version)
            for n, r in enumerate(reader.rows("scenes", MAX_SCENES))
        ),
        format=Format(
            frame_width=format_reader.even("frame_width", 64, 7680),
            frame_height=format_reader.even("frame_height", 64, 4320),
            fps=format_reader.rate("fps", FRAME_RATES),
            sound_kbps=format_reader.number("sound_kbps", 32, 512),
        ),
        **_read_together(reader, version),
    )
    if version < 4:
        rig = replace(rig, stems=preset_stems(rig, "apart"))
    _check_devices(rig)
    _check_scenes(rig)
    _check_stems(rig)
    return rig


def _keyed(scene: Scene, number: int, version: int) -> Scene:
    """Before version 3 scenes had no keys: the first nine get a digit."""
    return replace(scene, key=str(number + 1)) if version < 3 and number < 9 else scene


def _read_together(reader: Reader, version: int) -> dict[str, Any]:
    """What the scenes of a rig have in common."""
    if version < 3:
        return {}
    return {
        "spots": tuple(read_spot(r) for r in reader.rows("spots", MAX_SPOTS)),
        "change_over": read_change_over(reader.part("change_over")),
        "default_scene_id": reader.value("default_scene") and reader.key("default_scene"),
        **({} if version < 4 else read_sounds_together(reader, version)),
    }


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
    if len({s.id for s in rig.spots}) != len(rig.spots):
        raise RigError("Two spots of the rig have the same id; each needs its own.", "spots")
    keys = [s.key for s in rig.scenes if s.key]
    if len(set(keys)) != len(keys):
        raise RigError("Two scenes have the same key; give each its own.", "scenes")
    for number, scene in enumerate(rig.scenes):
        where = f"scenes[{number}]"
        if len({x.id for x in scene.layers}) != len(scene.layers):
            raise RigError(f"Two layers of “{scene.name}” have the same id.", where)
        for layer in scene.layers:
            source = rig.input(layer.input_id)
            if not source.is_picture:
                raise RigError(f"“{source.name}” is a sound and cannot be a layer.", where)
            if layer.spot and layer.spot not in {s.id for s in rig.spots}:
                raise RigError(f"“{source.name}” sits on a spot that the rig lacks.", where)
            if not Box(0, 0, *source.size).holds(layer.crop):
                raise RigError(f"The crop of “{source.name}” lies outside its picture.", where)
        for sound in scene.sounds:
            if rig.input(sound.input_id).is_picture:
                raise RigError(f"“{sound.input_id}” is a picture and cannot be heard.", where)


def _check_stems(rig: Rig) -> None:
    ids = [t.id for t in rig.stems]
    if len(set(ids)) != len(ids):
        raise RigError("Two stems have the same id; each needs its own.", "stems")
    for number, track in enumerate(rig.stems):
        for send in track.sends:
            if rig.input(send.input_id).is_picture:
                raise RigError(
                    f"“{send.input_id}” is a picture and cannot go to a stem.",
                    f"stems[{number}]",
                )


def _read_mode(mode: Reader, is_picture: bool, still: bool = False) -> Mode:
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


def _read_input(reader: Reader, version: int) -> Input:
    kind = reader.choice("kind", PICTURE_KINDS + SOUND_KINDS)
    is_picture, still = kind in PICTURE_KINDS, kind in STILL_KINDS
    mode = _read_mode(reader.part("mode"), is_picture, still)
    looks, tone = Looks(), Tone()
    if version > 1 and is_picture:
        looks = _read_looks(reader.part("looks"), mode)
    elif version > 1:
        tone = read_tone(reader.part("tone"), version)
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


def _read_looks(reader: Reader, mode: Mode) -> Looks:
    crop = reader.box("crop") if reader.value("crop") is not None else None
    if crop and not Box(0, 0, mode.width, mode.height).holds(crop):
        raise reader.wrong("crop", f"inside {mode.width} × {mode.height} px", box_to_list(crop))
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


def _read_card(reader: Reader) -> Card:
    return Card(
        reader.text("text", TEXT_LIMIT),
        reader.choice("font", FONTS),
        reader.number("size_px", *TEXT_SIZE_LIMITS_PX),
        reader.matching("colour", COLOUR_PATTERN, "a colour such as #1d2b33"),
        reader.value("backdrop")
        and reader.matching("backdrop", COLOUR_PATTERN, "a colour such as #1d2b33"),
    )
