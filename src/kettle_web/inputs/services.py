"""Inputs added: devices, pictures, text cards, files."""

from dataclasses import replace
from pathlib import Path
from typing import BinaryIO

from django.conf import settings

from kettle_core.errors import RigError
from kettle_core.rig.changes import with_new_input
from kettle_core.rig.devices import Mode
from kettle_core.rig.rig import Card, Input, input_of_device, unused_id
from kettle_media.rig.file_driver import PREFIX
from kettle_media.rig.intake import playable_ending, receive
from kettle_web.frame.editing import edit
from kettle_web.frame.engine import plugged_in
from kettle_web.models import Rig, Still

SAMPLE_CARDS = {
    "title": ("Title card", Card("Planning a signature\nOdile Fernhollow", "source-serif", 120)),
    "step": ("Step card", Card("1  Fold, then crease", "figtree", 96, "#1d2b33", "#f7f4ec")),
    "end": ("End card", Card("Next time: sewing over tapes", "source-serif", 104)),
    "values": ("Values", Card("gutter 4.5 mm\ncreep  0.3 mm", "jetbrains-mono", 64, "#ffffff", "")),
}


def add_device(*, rig: Rig, device_id: str) -> Input:
    """Add a plugged-in device to a rig. Raises RigError if it has gone meanwhile."""
    found = next((d for d in plugged_in() if d.id == device_id), None)
    if found is None:
        raise RigError(
            "This device is not plugged in any more, so nothing was added. Plug it in again.",
            "device",
        )
    return _add(rig, input_of_device(found, found.id))


def _add(rig: Rig, item: Input) -> Input:
    new = replace(item, id=unused_id(item.id, ()))
    edit(rig, lambda values: (with_new_input(values, new), f"{item.name} added"))
    added: Input = rig.values.inputs[-1]
    return added


def add_still(*, rig: Rig, still: Still) -> Input:
    """Add a picture of the library to the rig."""
    mode = Mode(still.width, still.height)
    item = Input(still.name, still.name, "picture", "", mode, recorded=False, still=still.digest)
    return _add(rig, item)


def add_card(*, rig: Rig, sample: str) -> Input:
    """Add a text card, beginning with a sample. Raises RigError."""
    if sample not in SAMPLE_CARDS:
        raise RigError("There is no such sample card. Choose one of the list.", "sample")
    name, card = SAMPLE_CARDS[sample]
    frame = rig.values.format.frame
    mode = Mode(frame.width, frame.height)
    return _add(rig, Input(name, name, "text", "", mode, recorded=False, card=card))


def add_material(*, rig: Rig, file: BinaryIO, name: str) -> list[Input]:
    """Take a video or sound file in and add what is in it as inputs. Raises RigError."""
    suffix = playable_ending(name, RigError)
    folder = Path(settings.DATA) / "material"
    folder.mkdir(parents=True, exist_ok=True)
    taken = [p.stem for p in folder.iterdir()]
    path = folder / (unused_id(Path(name).stem, taken) + suffix)
    part = path.with_name(f".{path.name}.part{suffix}")
    try:
        receive(file, part, name, RigError)
        part.rename(path)
    finally:
        part.unlink(missing_ok=True)
    found = [d for d in plugged_in() if d.id.startswith(PREFIX + path.name)]
    if not found:
        raise RigError(f"“{name[:60]}” was kept, but is not offered yet. Reload the page.", "file")
    return [add_device(rig=rig, device_id=d.id) for d in found]
