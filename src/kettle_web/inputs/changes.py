"""What each form of an input's page changes in the rig."""

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from kettle_core.errors import RigError
from kettle_core.rig.changes import in_mode, nearest_mode, with_input, with_new_input
from kettle_core.rig.devices import DeviceInfo, Mode
from kettle_core.rig.rig import Card, Input, Rig, input_of_device
from kettle_core.scene.layout import Box
from kettle_core.scene.region import (
    place_region,
    preset_region,
    resize_region,
    turn_box,
    unturn_box,
)

Values = dict[str, Any]

REGION = "region"


def seen_size(item: Input) -> tuple[int, int]:
    """Width and height of the whole picture as it is seen: turned, not cropped."""
    return replace(item, looks=replace(item.looks, crop=None)).size


def seen_crop(item: Input) -> Box:
    """The region in the picture as it is seen; all of it where there is none."""
    mode, looks = item.mode, item.looks
    crop = looks.crop or Box(0, 0, mode.width, mode.height)
    return turn_box(crop, mode.width, mode.height, looks.turn, looks.mirrored)


def rename(rig: Rig, item: Input, data: Values, _: list[DeviceInfo]) -> Rig:
    """Another name."""
    return with_input(rig, replace(item, name=data["name"]))


def turn_on(rig: Rig, item: Input, data: Values, _: list[DeviceInfo]) -> Rig:
    """On or off."""
    return with_input(rig, replace(item, on=data["on"]))


def capture(rig: Rig, item: Input, data: Values, devices: list[DeviceInfo]) -> Rig:
    """Whole display, region, window or tab."""
    what = data["what"]
    root = root_device(item, devices)
    target = root if what == REGION else next((d for d in devices if d.id == what), None)
    if target is None:
        raise RigError("This is not there any more, so nothing was changed.", "what")
    changed = item
    if target.id != item.device:
        mode = nearest_rate(target, item)
        used = next((i.mode for i in rig.inputs if i.device == target.id), mode)
        looks = replace(item.looks, crop=None)
        changed = replace(item, device=target.id, kind=target.kind, mode=used, looks=looks)
    crop = None
    if what == REGION:
        width, height = changed.mode.width, changed.mode.height
        size = (1280, 720) if width > 1280 and height > 720 else (width // 2, height // 2)
        crop = item.looks.crop or preset_region(size, Box(0, 0, width, height), width, height)
    return with_input(rig, replace(changed, looks=replace(changed.looks, crop=crop)))


def root_device(item: Input, devices: list[DeviceInfo]) -> DeviceInfo | None:
    """The display that an input's window or tab is a part of, or its own device."""
    by_id = {d.id: d for d in devices}
    own = by_id.get(item.device)
    return by_id.get(own.part_of, own) if own else None


def nearest_rate(target: DeviceInfo, item: Input) -> Any:
    """Of the largest modes of a device the one with the input's frame rate."""
    most = target.largest_mode
    largest = [m for m in target.modes if (m.width, m.height) == (most.width, most.height)]
    return nearest_mode(largest, replace(most, fps=item.mode.fps))


def region(rig: Rig, item: Input, data: Values, _: list[DeviceInfo]) -> Rig:
    """Where the region lies, in px of the picture as it is seen."""
    width, height = seen_size(item)
    before = seen_crop(item)
    if data["preset"]:
        across, down = (int(v) for v in data["preset"].split("x"))
        box = preset_region((across, down), before, width, height)
    else:
        box = Box(data["left"], data["top"], data["width"], data["height"])
        if data["keep_aspect"] and box.width != before.width:
            by = box.width - before.width
            box = resize_region(before, "right", by, width, height, keep_aspect=True)
        elif data["keep_aspect"] and box.height != before.height:
            by = box.height - before.height
            box = resize_region(before, "bottom", by, width, height, keep_aspect=True)
        box = place_region(box, width, height)
    mode, looks = item.mode, item.looks
    crop = unturn_box(box, mode.width, mode.height, looks.turn, looks.mirrored)
    return with_input(rig, replace(item, looks=replace(looks, crop=crop)))


def crop(rig: Rig, item: Input, data: Values, _: list[DeviceInfo]) -> Rig:
    """Cropped, at first by an eighth at each side, or whole."""
    mode = item.mode
    inner = Box(mode.width // 8, mode.height // 8, mode.width * 3 // 4, mode.height * 3 // 4)
    box = place_region(inner, mode.width, mode.height) if data["cropped"] else None
    return with_input(rig, replace(item, looks=replace(item.looks, crop=box)))


def mode(rig: Rig, item: Input, data: Values, _: list[DeviceInfo]) -> Rig:
    """Another mode of the device."""
    return with_input(rig, in_mode(item, data["mode"]))


def looks(rig: Rig, item: Input, data: Values, _: list[DeviceInfo]) -> Rig:
    """Turned and mirrored."""
    changed = replace(item.looks, turn=data["turn"], mirrored=data["mirrored"])
    return with_input(rig, replace(item, looks=changed))


def events(rig: Rig, item: Input, data: Values, _: list[DeviceInfo]) -> Rig:
    """Pointer and keys as data."""
    changed = replace(item.looks, pointer=data["pointer"], keys=data["keys"])
    return with_input(rig, replace(item, looks=changed))


def tone(rig: Rig, item: Input, data: Values, _: list[DeviceInfo]) -> Rig:
    """Gain, downmix, delay."""
    changed = replace(
        item.tone,
        gain_db=round(data["gain_db"], 1),
        downmix=data["downmix"] or item.tone.downmix,
        delay_ms=round(data["delay_ms"], 1),
    )
    return with_input(rig, replace(item, tone=changed))


def card(rig: Rig, item: Input, data: Values, _: list[DeviceInfo]) -> Rig:
    """The text card."""
    backdrop = "" if data["clear"] else data["backdrop"]
    made = Card(data["text"], data["font"], data["size_px"], data["colour"], backdrop)
    return with_input(rig, replace(item, card=made))


def opacity(rig: Rig, item: Input, data: Values, _: list[DeviceInfo]) -> Rig:
    """How opaque a still is."""
    return with_input(rig, replace(item, looks=replace(item.looks, opacity=data["opacity"])))


def still(rig: Rig, item: Input, data: Values, _: list[DeviceInfo]) -> Rig:
    """Another picture of the library, which may be of another size."""
    found = data["still"]
    mode = Mode(found.width, found.height)
    return with_input(rig, replace(item, still=found.digest, mode=mode))


def own_sound(rig: Rig, item: Input, data: Values, devices: list[DeviceInfo]) -> Rig:
    """The webcam's own microphone off, or recorded without being heard."""
    device = own_microphone(item, devices)
    if device is None:
        raise RigError(f"{item.name} has no microphone of its own.", "own_sound")
    kept = next((i for i in rig.inputs if i.device == device.id), None)
    wanted = data["own_sound"] == "reference"
    if kept is None and not wanted:
        return rig
    if kept is None:
        rig = with_new_input(rig, input_of_device(device, f"{item.id}-sound"))
        kept = rig.inputs[-1]
    rig = with_input(rig, replace(kept, on=wanted, recorded=wanted))
    scenes = tuple(
        replace(
            s,
            sounds=tuple(replace(x, heard=False) if x.input_id == kept.id else x for x in s.sounds),
        )
        for s in rig.scenes
    )
    return replace(rig, scenes=scenes)


def own_microphone(item: Input, devices: list[DeviceInfo]) -> DeviceInfo | None:
    """The microphone that is a part of a webcam."""
    parts = (d for d in devices if d.part_of == item.device and d.kind == "microphone")
    return next(parts, None) if item.kind == "webcam" else None


Change = Callable[[Rig, Input, Values, list[DeviceInfo]], Rig]

CHANGES: dict[str, tuple[Change, str]] = {
    "name": (rename, "renamed"),
    "on": (turn_on, "turned on or off"),
    "capture": (capture, "what is recorded changed"),
    "region": (region, "region changed"),
    "crop": (crop, "crop changed"),
    "mode": (mode, "mode changed"),
    "looks": (looks, "turn or mirror changed"),
    "events": (events, "pointer and keys changed"),
    "tone": (tone, "gain, downmix or delay changed"),
    "card": (card, "text card changed"),
    "still": (still, "picture exchanged"),
    "opacity": (opacity, "opacity changed"),
    "own_sound": (own_sound, "own microphone changed"),
}
