"""The rig that a machine is offered at first: what is plugged in, and one scene."""

from collections.abc import Sequence
from dataclasses import replace

from kettle_core.rig.devices import DeviceInfo
from kettle_core.rig.format import Format
from kettle_core.rig.rig import Input, Rig, input_of_device, unused_id
from kettle_core.rig.sound_changes import preset_stems
from kettle_core.rig.starting_layouts import first_scene


def rig_of_devices(name: str, devices: Sequence[DeviceInfo]) -> Rig:
    """A rig of what is plugged in, each at its largest mode, with one scene.

    The first of each kind is on and recorded, each sound on a stem of its own; the
    others and a webcam's own sound are there, but off. Windows, tabs and single sounds are parts
    of what is there already.
    """
    found: list[Input] = []
    for device in devices:
        own_sound = device.kind == "microphone" and bool(device.part_of)
        if device.part_of and not own_sound:
            continue
        first = not own_sound and all(i.kind != device.kind for i in found)
        input_id = unused_id(device.id, [i.id for i in found])
        found.append(replace(input_of_device(device, input_id), recorded=first, on=first))
    format_ = Format()
    rig = Rig(name, tuple(found), (first_scene("Screen and me", found, format_),), format_)
    return replace(rig, stems=preset_stems(rig, "apart"))
