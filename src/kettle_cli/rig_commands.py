"""inputs and rig: what is plugged in, and rigs carried from machine to machine."""

import json
from argparse import Namespace
from pathlib import Path
from typing import Any

from kettle_cli.paths import DATA
from kettle_core.errors import EngineError, RigError
from kettle_engine.client import EngineClient
from kettle_engine.drivers import Drivers
from kettle_engine.protocol import device_from_dict, device_to_dict
from kettle_media.file_driver import FileDriver
from kettle_media.rig_file import read_rig_file
from kettle_studio.driver import Studio


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
    try:
        return list(EngineClient(DATA, timeout_ms=3000).ask("devices"))
    except EngineError:
        drivers = Drivers(Studio(), FileDriver(DATA / "material"))
        return [device_to_dict(d) for d in drivers.list_devices()]


def export_rig(options: Namespace) -> int:
    """Write a rig with its pictures into one file."""
    _need_django()
    from kettle_web import rig_services
    from kettle_web.models import Rig

    rig = Rig.objects.filter(slug=options.name).first() or (
        Rig.objects.filter(name=options.name).first()
    )
    if rig is None:
        known = ", ".join(Rig.objects.values_list("slug", flat=True)) or "none"
        raise RigError(f"There is no rig “{options.name}”, so nothing was written. Known: {known}.")
    target: Path = options.file
    if target.exists() and not options.replace:
        raise RigError(f"{target} exists and was left alone; add --replace to replace it.")
    try:
        target.write_bytes(rig_services.export_rig(rig=rig))
    except OSError as error:
        raise RigError(f"{target} cannot be written: {error.strerror}.") from error
    print(f"{target}: {rig.name}, {len(rig.values.inputs)} inputs")
    return 0


def import_rig(options: Namespace) -> int:
    """Make a rig from a file and tell what is not plugged in here."""
    data = read_rig_file(options.file)
    _need_django()
    from kettle_web import rig_services

    plugged_in = [device_from_dict(row) for row in _devices()]
    rig, told = rig_services.import_rig(data=data, plugged_in=plugged_in)
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
