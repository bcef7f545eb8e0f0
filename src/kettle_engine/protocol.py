"""What is said between engine and pages: messages by topic, devices as plain data."""

from collections.abc import Mapping
from typing import Any

from kettle_core.rig.devices import DeviceInfo
from kettle_engine.pace import every_s
from kettle_media.rig_document import mode_from_dict, mode_to_dict

STATUS, LEVELS, PROGRAM, PICTURE = b"status", b"levels", b"program", b"picture/"
# The level of one sound after its chain, and the sound itself to listen to.
AFTER, HEAR = b"after/", b"hear/"
TOPICS = (STATUS, LEVELS, PROGRAM, PICTURE, AFTER, HEAR)
IDLE, WATCHING, COUNTDOWN, RECORDING, FINISHING = (
    "idle",
    "watching",
    "countdown",
    "recording",
    "finishing",
)
# Who asks for other inputs while a take is recorded is told so.
IN_TAKE = "A take is being recorded; stop it before the inputs are changed."
# Size of a live picture's box in px, least time between two of them in s, JPEG quality.
SIZES = {
    "small": ((240, 136), every_s(15), 78),
    "rest": ((240, 136), 1.0, 78),
    "large": ((960, 600), every_s(15), 84),
    # All of the device's picture, to draw a region on.
    "whole": ((960, 600), every_s(15), 84),
}
SHOWN_WIDTH, THUMB_WIDTH = 1000, 160
# Of a scene on the drawing table, of one among the scenes, and of a layer's matte.
SCENE_SIZES = {
    "scene": (SHOWN_WIDTH, every_s(20), 86),
    "thumb": (THUMB_WIDTH, 0.5, 80),
    "matte": (SHOWN_WIDTH, every_s(8), 86),
}
# An input of a region is opened a second time under this name while all of it is looked at.
WHOLE = "whole-"
SPARE = "spare-"


def spare_id(device_id: str) -> str:
    """The name under which a device outside the rig is shown."""
    return SPARE + device_id


def after_topic(input_id: str) -> bytes:
    """The topic under which the level of a sound after its chain is published."""
    return AFTER + input_id.encode()


def hear_topic(input_id: str) -> bytes:
    """The topic under which a sound after its chain is published to be heard."""
    return HEAR + input_id.encode()


def picture_topic(size: str, input_id: str) -> bytes:
    """The topic under which an input's live picture of a size is published."""
    return PICTURE + f"{size}/{input_id}".encode()


def device_to_dict(info: DeviceInfo) -> dict[str, Any]:
    """A device as plain data, for pages and the command line."""
    return {
        "id": info.id,
        "name": info.name,
        "kind": info.kind,
        "modes": [{**mode_to_dict(m), "words": m.in_words()} for m in info.modes],
        "reported_latency_ms": info.reported_latency_ms,
        "part_of": info.part_of,
        "state": "busy" if info.busy else "free",
    }


def device_from_dict(row: Mapping[str, Any]) -> DeviceInfo:
    """Read what `device_to_dict` wrote."""
    return DeviceInfo(
        row["id"],
        row["name"],
        row["kind"],
        tuple(
            mode_from_dict({name: v for name, v in mode.items() if name != "words"})
            for mode in row["modes"]
        ),
        row["reported_latency_ms"],
        row["part_of"],
        row["state"] == "busy",
    )
