"""Takes for tests: recorded once a process, on the virtual clock."""

import atexit
import fcntl
import os
import shutil
import tempfile
from functools import cache
from pathlib import Path

from kettle_core.rig.rig import Rig
from kettle_engine.process import work_frame_by_frame
from kettle_engine.recording.take import record_take
from kettle_media.take.folder import TakeFolder
from kettle_studio.demo import demo_rig, shrunk
from kettle_studio.driver import Studio

work_frame_by_frame()
ROOT = Path(tempfile.mkdtemp(prefix="kettle-takes-"))
atexit.register(shutil.rmtree, ROOT, ignore_errors=True)


# Their frame is a third as wide and high as the demo's, which decides what most tests take.
PART = 3


def small_rig() -> Rig:
    """The demo rig of a third of its size."""
    return shrunk(demo_rig(), PART)


def demo_take(seconds: int = 4, part: int = PART) -> TakeFolder:
    """A take of the demo rig, of a part of its size; nobody changes it."""
    return _demo_take(seconds, part)


@cache
def _demo_take(seconds: int, part: int) -> TakeFolder:
    name = f"take-{part}-{seconds}"
    path = ROOT / name
    shared = os.environ.get("KETTLE_TEST_SHARED")
    if not shared:
        record_take(Studio(1), shrunk(demo_rig(), part), path, seconds * 10**9)
        return TakeFolder(path)
    # The steps of a test run have it from the one that needed it first.
    kept = Path(shared) / name
    with (Path(shared) / f"{name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not kept.exists():
            half_done = kept.with_suffix(".part")
            record_take(Studio(1), shrunk(demo_rig(), part), half_done, seconds * 10**9)
            half_done.rename(kept)
    shutil.copytree(kept, path)
    return TakeFolder(path)


def copied_take(name: str, seconds: int = 4, part: int = PART) -> TakeFolder:
    """A copy of the demo take that a test may damage."""
    path = ROOT / name
    shutil.rmtree(path, ignore_errors=True)
    shutil.copytree(demo_take(seconds, part).path, path)
    return TakeFolder(path)
