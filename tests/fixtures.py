"""Takes for tests: recorded once a process, on the virtual clock."""

import atexit
import fcntl
import os
import shutil
import tempfile
from functools import cache
from pathlib import Path

from kettle_engine.process import work_frame_by_frame
from kettle_engine.recording.take import record_take
from kettle_media.take.folder import TakeFolder
from kettle_studio.demo import demo_rig
from kettle_studio.driver import Studio

work_frame_by_frame()
ROOT = Path(tempfile.mkdtemp(prefix="kettle-takes-"))
atexit.register(shutil.rmtree, ROOT, ignore_errors=True)


def demo_take(seconds: int = 4) -> TakeFolder:
    """A take of the demo rig; nobody changes it."""
    return _demo_take(seconds, 1)


@cache
def _demo_take(seconds: int, seed: int) -> TakeFolder:
    path = ROOT / f"take-{os.getpid()}-{seed}-{seconds}"
    shared = os.environ.get("KETTLE_TEST_SHARED")
    if not shared:
        record_take(Studio(seed), demo_rig(), path, seconds * 10**9)
        return TakeFolder(path)
    # The steps of a test run have it from the one that needed it first.
    kept = Path(shared) / f"take-{seed}-{seconds}"
    with (Path(shared) / f"{kept.name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not kept.exists():
            part = kept.with_suffix(".part")
            record_take(Studio(seed), demo_rig(), part, seconds * 10**9)
            part.rename(kept)
    shutil.copytree(kept, path)
    return TakeFolder(path)


def copied_take(name: str, seconds: int = 4) -> TakeFolder:
    """A copy of the demo take that a test may damage."""
    path = ROOT / name
    shutil.rmtree(path, ignore_errors=True)
    shutil.copytree(demo_take(seconds).path, path)
    return TakeFolder(path)
