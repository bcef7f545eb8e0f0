"""What tests begin with: takes, recorded once on the virtual clock, and a library."""

import atexit
import fcntl
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable
from dataclasses import replace
from fractions import Fraction
from functools import cache
from pathlib import Path

from kettle_core.rig.format import Format
from kettle_core.rig.rig import Input, Rig, input_of_device
from kettle_core.rig.starting_layouts import whole_layer
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import Scene, SceneSound
from kettle_engine.process import work_frame_by_frame
from kettle_engine.recording.take import record_take
from kettle_media.take.folder import TakeFolder
from kettle_studio.demo import demo_rig, shrunk
from kettle_studio.driver import Studio

work_frame_by_frame()
ROOT = Path(tempfile.mkdtemp(prefix="kettle-takes-"))
atexit.register(shutil.rmtree, ROOT, ignore_errors=True)


LIBRARY = """
import os
import django
os.umask(0o077)
django.setup()
from django.core.management import call_command
from kettle_web.frame.static_files import collect_static
call_command("migrate", verbosity=0)
collect_static()
"""
# Their frame is a third as wide and high as the demo's, which decides what most tests take.
PART = 3


def small_rig() -> Rig:
    """The demo rig of a third of its size."""
    return shrunk(demo_rig(), PART)


def studio_input(name: str, **more: object) -> Input:
    """An input of a device of the studio, in the mode that is the least work."""
    info = next(d for d in Studio().list_devices() if d.id == name)
    mode = min(info.modes, key=lambda m: (m.width, m.fps or 0))
    return replace(input_of_device(info, name), mode=mode, **more)


def face_rig(*more: Input) -> Rig:
    """A webcam and a headset, and what a test adds: what is recorded in real time beside others."""
    items = (studio_input("webcam-1"), studio_input("headset"), *more)
    scene = Scene("scene-1", "Me", (), (SceneSound("headset"),))
    return Rig("Small", items, (scene,), Format(640, 360, Fraction(30)))


def with_three_layers(rig: Rig) -> Rig:
    """The demo rig with a second scene of three layers, the webcam in the same corner as before."""
    pictures = {item.id: item for item in rig.inputs}
    first, second = rig.scenes[:2]
    corner = next(x for x in first.layers if x.input_id == "webcam-1")
    frame = rig.format.frame
    tablet = whole_layer(pictures["tablet"], Box(frame.right - 480, 60, 420, 700))
    layers = (whole_layer(pictures["webcam-2"], frame), tablet, corner)
    return replace(rig, scenes=(first, replace(second, layers=layers), *rig.scenes[2:]))


def demo_take(seconds: int = 4, part: int = PART) -> TakeFolder:
    """A take of the demo rig, of a part of its size; nobody changes it."""
    return _demo_take(seconds, part)


@cache
def _demo_take(seconds: int, part: int) -> TakeFolder:
    def record(path: Path) -> None:
        record_take(Studio(1), shrunk(demo_rig(), part), path, seconds * 10**9)

    return TakeFolder(_once(f"take-{part}-{seconds}", record))


def begin_library(data: Path) -> None:
    """Put into a data folder what each first start makes alike: tables, and static files."""
    shutil.copytree(_once("library", _make_library), data, dirs_exist_ok=True)


def _make_library(path: Path) -> None:
    settings = {"KETTLE_DATA": str(path), "DJANGO_SETTINGS_MODULE": "kettle_web.settings"}
    subprocess.run([sys.executable, "-c", LIBRARY], env=os.environ | settings, check=True)


def _once(name: str, make: Callable[[Path], None]) -> Path:
    """A folder that is made by who needs it first, of all steps of a test run; a copy of it."""
    path = ROOT / name
    shared = os.environ.get("KETTLE_TEST_SHARED")
    if not shared:
        if not path.exists():
            make(path)
        return path
    kept = Path(shared) / name
    with (Path(shared) / f"{name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not kept.exists():
            half_done = kept.with_suffix(".part")
            make(half_done)
            half_done.rename(kept)
    shutil.copytree(kept, path, dirs_exist_ok=True)
    return path


def copied_take(name: str, seconds: int = 4, part: int = PART) -> TakeFolder:
    """A copy of the demo take that a test may damage."""
    path = ROOT / name
    shutil.rmtree(path, ignore_errors=True)
    shutil.copytree(demo_take(seconds, part).path, path)
    return TakeFolder(path)
