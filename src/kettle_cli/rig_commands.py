"""inputs and rig: what is plugged in, and rigs carried from machine to machine."""

import json
from argparse import Namespace
from dataclasses import asdict
from pathlib import Path
from typing import Any

from kettle_cli.find_rig import find_rig
from kettle_cli.paths import DATA
from kettle_core.errors import EngineError, RigError
from kettle_core.rig.rig import Rig
from kettle_core.scene.placing import scale_in_words
from kettle_core.scene.scene import Scene
from kettle_engine.protocol import device_from_dict
from kettle_media.rig.rig_file import read_rig_file


def inputs(options: Namespace) -> int:
    """List what is plugged in, with modes and state."""
    devices = _devices()
    if options.json:
        print(json.dumps(devices, indent=1, ensure_ascii=False))
        return 0
    for device in devices:
        indent = "  " if device["part_of"] else ""
        state = device.get("words") or device["state"]
        print(f"{indent}{device['name']} · {device['kind']} · {state}")
        for mode in device["modes"]:
            print(f"{indent}    {mode['words']}")
    return 0


def _devices() -> list[dict[str, Any]]:
    """From the engine if one runs, with the state of what is open; else from the drivers."""
    # Drivers come with all they need to open devices: only who asks for them waits for that.
    from kettle_engine.client import EngineClient
    from kettle_engine.devices.drivers import Drivers
    from kettle_engine.protocol import device_to_dict
    from kettle_media.rig.file_driver import FileDriver
    from kettle_studio.driver import Studio

    try:
        return list(EngineClient(DATA, timeout_ms=3000).ask("devices"))
    except EngineError:
        drivers = Drivers(Studio(), FileDriver(DATA / "material"))
        return [device_to_dict(d) for d in drivers.list_devices()]


def export_rig(options: Namespace) -> int:
    """Write a rig with its pictures into one file."""
    _need_django()
    from kettle_web.models import Rig as KeptRig
    from kettle_web.rigs.carrying import export_rig
    from kettle_web.rigs.services import make_demo_rig

    rig = KeptRig.objects.filter(slug=options.name).first() or (
        KeptRig.objects.filter(name=options.name).first()
    )
    if rig is None and options.name == "demo":
        rig = make_demo_rig()
    if rig is None:
        known = ", ".join(KeptRig.objects.values_list("slug", flat=True)) or "none"
        raise RigError(f"There is no rig “{options.name}”, so nothing was written. Known: {known}.")
    target: Path = options.file
    if target.exists() and not options.replace:
        raise RigError(f"{target} exists and was left alone; add --replace to replace it.")
    try:
        target.write_bytes(export_rig(rig=rig))
    except OSError as error:
        raise RigError(f"{target} cannot be written: {error.strerror}.") from error
    print(f"{target}: {rig.name}, {len(rig.values.inputs)} inputs")
    return 0


def show_rig(options: Namespace) -> int:
    """Print what a rig's scenes show, where, and how they come in."""
    rig = find_rig(options.name)
    scenes = [s for s in rig.scenes if not options.scene or options.scene in (s.name, s.id)]
    if not scenes:
        known = ", ".join(f"“{s.name}”" for s in rig.scenes)
        raise RigError(f"The rig has no scene “{options.scene}”. It has {known}.", "scene")
    found = [_plan(rig, scene) for scene in scenes]
    if options.json:
        print(json.dumps(found[0] if options.scene else found, indent=1, ensure_ascii=False))
        return 0
    for plan in found:
        print(f"{plan['scene']} · comes in by {plan['change_over']['kind']}")
        for layer in plan["layers"]:
            box = layer["target"]
            print(
                f"  {layer['input_id']:<14} {box['width']} × {box['height']} px "
                f"at {box['left']}, {box['top']} · "
                f"{layer['scale']} · turned {layer['turn']:g}° · {layer['mask']['shape']}"
            )
        print(f"  heard: {', '.join(plan['heard']) or 'nothing'}")
    return 0


def _plan(rig: Rig, scene: Scene) -> dict[str, Any]:
    """What is really seen and heard of a scene: source and target in px, back to front."""
    seen = rig.seen_in(scene)
    layers = []
    for layer in seen.layers:
        data = asdict(layer)
        data |= {"source": data.pop("crop"), "target": data.pop("box")}
        data["scale"] = scale_in_words(layer)[0]
        layers.append(data)
    return {
        "scene": scene.name,
        "id": scene.id,
        "key": scene.key,
        "frame": [rig.format.frame_width, rig.format.frame_height],
        "change_over": vars(rig.change_over_to(scene)).copy(),
        "layers": layers,
        "heard": [s.input_id for s in seen.sounds],
        "voice": voice.name if (voice := rig.voice_in(scene)) else None,
    }


def import_rig(options: Namespace) -> int:
    """Make a rig from a file and tell what is not plugged in here."""
    data = read_rig_file(options.file)
    _need_django()
    from kettle_web.rigs.carrying import import_rig

    plugged_in = [device_from_dict(row) for row in _devices()]
    rig, told = import_rig(data=data, plugged_in=plugged_in)
    print(f"{rig.slug}: {rig.name}, {len(rig.values.inputs)} inputs")
    for substitution in told:
        print(substitution.sentence)
    return 0


def _need_django() -> None:
    """Database and library of the data folder, made if they are not there yet."""
    import django
    from django.core.management import call_command

    DATA.mkdir(parents=True, exist_ok=True)
    django.setup()
    call_command("migrate", verbosity=0, interactive=False)
