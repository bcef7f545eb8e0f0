"""What the page of an input shows: its forms, and the facts that follow from its set-up."""

import json
import time
from collections.abc import Iterable
from typing import Any

from django import forms

from kettle_core.errors import EngineError
from kettle_core.rig.devices import DeviceInfo
from kettle_core.rig.rig import Input
from kettle_core.rig.rig import Rig as RigValues
from kettle_core.scene.region import aspect_in_words
from kettle_engine.protocol import spare_id
from kettle_web.frame.asking import given
from kettle_web.frame.engine import engine, plugged_in_or_none
from kettle_web.inputs import changes
from kettle_web.inputs.forms import (
    CaptureForm,
    CardForm,
    CropForm,
    EventsForm,
    LooksForm,
    ModeForm,
    NameForm,
    OnForm,
    OpacityForm,
    OwnSoundForm,
    RegionForm,
    StillForm,
    ToneForm,
    mode_key,
)
from kettle_web.models import Rig, Still
from kettle_web.rigs.heard import HEARD_FOR_S, heard_path


def input_forms(
    values: RigValues,
    item: Input,
    devices: list[DeviceInfo],
    part: str = "",
    data: Any = None,
    stills: Iterable[Still] = (),
) -> dict[str, forms.Form]:
    """Every form of an input's page by its part; the one that came in is bound."""

    def made(name: str, kind: type[forms.Form], initial: dict[str, Any], **more: Any) -> forms.Form:
        fresh = kind(initial=initial, auto_id=f"{name}-%s", **more)
        if name != part:
            return fresh
        return kind(given(data, fresh), initial=initial, auto_id=f"{name}-%s", **more)

    found = {
        "name": made("name", NameForm, {"name": item.name}),
        "on": made("on", OnForm, {"on": item.on}),
    }
    device = next((d for d in devices if d.id == item.device), None)
    if item.is_screen:
        choices = capture_choices(item, devices)
        what = changes.REGION if item.looks.crop else item.device
        found["capture"] = made("capture", CaptureForm, {"what": what}, choices=choices)
    if not item.is_still:
        initial = {"mode": mode_key(item.mode)}
        found["mode"] = made("mode", ModeForm, initial, device=device, item=item)
    if item.is_screen:
        found["events"] = made("events", EventsForm, vars(item.looks))
    if item.kind in ("webcam", "video-file"):
        found["looks"] = made("looks", LooksForm, vars(item.looks))
        found["crop"] = made("crop", CropForm, {"cropped": item.looks.crop is not None})
    if item.looks.crop:
        found["region"] = made("region", RegionForm, vars(changes.seen_crop(item)))
    if not item.is_picture:
        found["tone"] = made("tone", ToneForm, vars(item.tone))
    if item.card:
        card = vars(item.card) | {"clear": not item.card.backdrop}
        card["backdrop"] = card["backdrop"] or "#22333b"
        found["card"] = made("card", CardForm, card)
    if item.still:
        choices = [(s.digest, f"{s.name} · {s.width} × {s.height} px") for s in stills]
        found["still"] = made("still", StillForm, {"digest": item.still}, choices=choices)
    if item.is_still:
        found["opacity"] = made("opacity", OpacityForm, {"opacity": item.looks.opacity})
    microphone = changes.own_microphone(item, devices)
    if microphone:
        kept = next((i for i in values.inputs if i.device == microphone.id), None)
        state = "reference" if kept and kept.on and kept.recorded else "off"
        found["own_sound"] = made("own_sound", OwnSoundForm, {"own_sound": state})
    return found


def capture_choices(item: Input, devices: list[DeviceInfo]) -> list[tuple[str, str]]:
    """Whole, region, and every window and tab of an input's display."""
    root = changes.root_device(item, devices)
    if root is None:
        others = [(d.id, f"Whole {d.kind} “{d.name}”") for d in devices if d.kind == "display"]
        return [(item.device, f"{item.name} (not plugged in)"), *others]
    choices = [(root.id, f"Whole {root.kind}"), (changes.REGION, "A region of it")]
    for part in devices:
        if part.part_of == root.id and part.is_picture:
            choices.append((part.id, f"{part.kind.capitalize()} “{part.name}”"))
    return choices


def picture_facts(values: RigValues, item: Input) -> dict[str, Any]:
    """Size, aspect ratio and the scale in every scene."""
    width, height = item.size
    uses = []
    for scene in values.scenes:
        for layer in scene.layers:
            if layer.input_id == item.id and layer.shown:
                scale = layer.box.width / layer.crop.width
                words = "1:1, crisp" if layer.box.width == layer.crop.width else f"{scale:.0%}"
                uses.append((scene.name, words))
    of_width, of_height = changes.seen_size(item)
    region = {**vars(changes.seen_crop(item)), "of_width": of_width, "of_height": of_height}
    return {
        "size": f"{width} × {height} px",
        "aspect": aspect_in_words(width, height),
        "uses": uses,
        "region": region if item.looks.crop else None,
    }


def surroundings(item: Input) -> list[dict[str, Any]]:
    """What will be seen or heard besides; empty where the engine can't be asked."""
    try:
        return list(engine().ask("surroundings", device=item.device))
    except EngineError:
        return []


def unused_devices(values: RigValues) -> list[dict[str, Any]]:
    """What is plugged in and not in the rig, in groups for the picture list."""
    used = {i.device for i in values.inputs}
    groups = (
        ("Displays and tablets", ("display", "tablet")),
        ("Windows and tabs", ("window", "tab")),
        ("Webcams", ("webcam", "video-file")),
        ("Sounds", ("microphone", "system-audio", "sound-file")),
    )
    devices = plugged_in_or_none()
    found = []
    for title, kinds in groups:
        rows = [d for d in devices if d.kind in kinds and d.id not in used]
        if rows:
            found.append({"title": title, "devices": rows})
    return found


def ears(values: RigValues, kind: str) -> list[dict[str, Any]]:
    """Every sound of a kind to choose from: of the rig, off or on, and plugged in besides."""
    found = []
    for item in values.inputs:
        if item.kind == kind:
            name = item.id if item.on else spare_id(item.device)
            found.append({"id": item.id, "name": item.name, "strip": name, "on": item.on})
    used = {i.device for i in values.inputs}
    for device in plugged_in_or_none():
        if device.kind == kind and device.id not in used and not device.busy:
            strip = spare_id(device.id)
            found.append({"id": "", "name": device.name, "strip": strip, "device": device.id})
    return found


def heard(rig: Rig, item: Input) -> dict[str, Any] | None:
    """Figures of what was heard last, None if that is long ago."""
    try:
        found = json.loads(heard_path(rig, item, "json").read_text())
    except (OSError, ValueError):
        return None
    if time.time() - found["at"] > HEARD_FOR_S:
        return None
    proposed = found["proposed_gain_db"]
    found["is_set"] = proposed is not None and abs(item.tone.gain_db - proposed) < 0.05
    return dict(found)


def scenes_with(values: RigValues, input_id: str) -> str:
    """Names of the scenes in which an input is a layer or heard, in words; "" for none."""
    names = [
        f"“{s.name}”"
        for s in values.scenes
        if any(x.input_id == input_id for x in s.layers)
        or any(x.input_id == input_id for x in s.sounds)
    ]
    return " and ".join(names)
