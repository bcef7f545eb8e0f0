"""The rig's document: its values by their names, and the versions before (docs/rig-format.md)."""

from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Any

from kettle_core.errors import RigError
from kettle_core.rig.devices import Mode
from kettle_core.rig.format import Format
from kettle_core.rig.rig import Rig
from kettle_core.rig.sound_changes import preset_stems
from kettle_core.rig.whole import check_format, check_rig
from kettle_core.scene.scene import Scene
from kettle_media.documents import Document

VERSION = 7
Plain = dict[str, Any]

SCENE: Document[Scene] = Document(Scene, "The scene", RigError)
_RIG: Document[Rig] = Document(Rig, "The rig", RigError)
_MODE: Document[Mode] = Document(Mode, "The mode", RigError)
_FORMAT: Document[Format] = Document(Format, "The format", RigError)


def rig_to_dict(rig: Rig) -> Plain:
    """Plain data that `rig_from_dict` reads back to an equal rig."""
    return {"version": VERSION, **_RIG.plain(rig)}


def rig_from_dict(data: Any) -> Rig:
    """Read a rig from plain data of any version, and check that it holds together.

    Raises
    ------
    RigError
        With the field's path, what was expected and what came.
    """
    if not isinstance(data, Mapping):
        raise RigError(f"The rig should be an object, got {data!r:.60}.")
    fields = dict(data)
    version = fields.pop("version", None)
    if version is None:
        raise RigError("version is missing from the rig.", "version")
    if isinstance(version, bool) or version not in range(1, VERSION + 1):
        raise RigError(
            f"version should be a whole number from 1 to {VERSION}, got {version!r:.60}.", "version"
        )
    try:
        for number in range(version, VERSION):
            fields = _UPGRADES[number](fields)
    except KeyError as error:
        raise RigError(f"{error.args[0]} is missing from the rig.", str(error.args[0])) from error
    except (AttributeError, TypeError, ValueError) as error:
        raise RigError(f"The rig, of version {version}, is damaged.", "version") from error
    rig = _RIG.read_plain(fields)
    if version < 4 and rig.inputs:
        rig = replace(rig, stems=preset_stems(rig, "apart"))
    check_rig(rig)
    return rig


def rig_schema() -> Plain:
    """The JSON Schema of the newest version."""
    schema = _RIG.schema()
    schema["properties"] = {"version": {"const": VERSION}, **schema["properties"]}
    schema["required"] = ["version", *schema["required"]]
    return schema


def format_from_json(text: str) -> Format:
    """A format by itself, as it stands in a rig; what is left out is as at first.

    Raises
    ------
    RigError
        With the field's path, what was expected and what came.
    """
    found = _FORMAT.read(text)
    check_format(found)
    return found


def format_from_dict(data: Any) -> Format:
    """A format of plain data. Raises RigError."""
    return _FORMAT.read_plain(data)


def format_to_dict(format_: Format) -> Any:
    """Plain data that `format_from_dict` reads back."""
    return _FORMAT.plain(format_)


def mode_to_dict(mode: Mode) -> Plain:
    """A mode as plain data: frame size and rate, or sample rate and channels."""
    plain: Plain = _MODE.plain(mode, defaults=False)
    return plain


def mode_from_dict(data: Any) -> Mode:
    """Read what `mode_to_dict` wrote. Raises RigError."""
    return _MODE.read_plain(data)


def _from_1(rig: Plain) -> Plain:
    """An input could not be off, and had neither looks nor tone."""
    return {**rig, "inputs": [{**item, "on": True} for item in rig["inputs"]]}


def _from_2(rig: Plain) -> Plain:
    """A layer had a box, a crop and a shape, rectangle or circle; a scene had no key."""
    scenes = []
    for number, scene in enumerate(rig["scenes"]):
        layers = [
            {
                "id": f"layer-{place + 1}",
                **{name: layer[name] for name in ("input", "box", "crop", "shown")},
                "mask": {"shape": "ellipse" if layer["shape"] == "circle" else layer["shape"]},
            }
            for place, layer in enumerate(scene["layers"])
        ]
        # The first nine get a digit.
        scenes.append({**scene, "layers": layers, "key": str(number + 1) if number < 9 else ""})
    return {**rig, "scenes": scenes}


def _from_3(rig: Plain) -> Plain:
    """A tone had a gain, a delay, and was mono or not."""

    def upgraded(tone: Plain) -> Plain:
        downmix = "mid" if tone["mono"] else "stereo"
        return {"gain_db": tone["gain_db"], "delay_ms": tone["delay_ms"], "downmix": downmix}

    inputs = [
        {**item, "tone": upgraded(item["tone"])} if "tone" in item else item
        for item in rig["inputs"]
    ]
    return {**rig, "inputs": inputs}


def _from_4(rig: Plain) -> Plain:
    """Stems were called sound tracks."""
    rest = {name: value for name, value in rig.items() if name != "sound_tracks"}
    return {**rest, "stems": rig.get("sound_tracks", [])}


def _from_5(rig: Plain) -> Plain:
    """Boxes were lists of four; inputs and scenes were named without saying that it is their id."""
    scenes = [
        {
            **scene,
            "layers": [_with_boxes(_named(x), "box", "crop") for x in scene["layers"]],
            "sounds": [_named(sound) for sound in scene["sounds"]],
        }
        for scene in rig["scenes"]
    ]
    inputs = [
        {**item, "looks": _with_boxes(item["looks"], "crop")} if "looks" in item else item
        for item in rig["inputs"]
    ]
    rest = {name: value for name, value in rig.items() if name != "default_scene"}
    return {
        **rest,
        "scenes": scenes,
        "inputs": inputs,
        "spots": [_with_boxes(spot, "box") for spot in rig.get("spots", [])],
        "stems": [
            {**stem, "sends": [_named(send) for send in stem["sends"]]} for stem in rig["stems"]
        ],
        "default_scene_id": rig.get("default_scene", ""),
    }


def _from_6(rig: Plain) -> Plain:
    """A format had a frame size and rate, and the bitrate of the program's sound."""
    before = dict(rig["format"])
    kbps = before.pop("sound_kbps", None)
    program = {} if kbps is None else {"program": {"sound_kbps": kbps}}
    return {**rig, "format": {**before, **program}}


def _named(row: Plain) -> Plain:
    return {("input_id" if name == "input" else name): value for name, value in row.items()}


def _with_boxes(row: Plain, *names: str) -> Plain:
    sides = ("left", "top", "width", "height")
    boxes = {n: dict(zip(sides, row[n], strict=True)) for n in names if row.get(n) is not None}
    return {**row, **boxes}


_UPGRADES: dict[int, Callable[[Plain], Plain]] = {
    1: _from_1,
    2: _from_2,
    3: _from_3,
    4: _from_4,
    5: _from_5,
    6: _from_6,
}
