"""Where rings lie: in shared memory, or below the data folder where that is small."""

import contextlib
import hashlib
import os
import shutil
from pathlib import Path

from kettle_core.errors import EngineError
from kettle_core.rig.devices import Mode
from kettle_core.rig.rig import Input
from kettle_engine.addresses import is_private, make_private, private_name
from kettle_engine.rings.ring import ring_size

SHARED_MEMORY = Path("/dev/shm")  # noqa: S108
# What is left for others when rings are put there.
LEFT_FREE = 0.25


def ring_name(item: Input) -> str:
    """The name of the ring that an input reads: one for each way a device is used.

    Inputs with the same device, mode, crop, turn and mirroring share one, so that a picture is
    turned and cropped once. What is recorded has a deeper one than what is only looked at.
    """
    looks = item.looks
    way: tuple[object, ...] = (item.device, item.mode)
    if item.is_picture:
        way += (looks.crop, looks.turn, looks.mirrored, item.has_track)
    return hashlib.sha256(repr(way).encode()).hexdigest()[:20]


def ring_mode(item: Input) -> Mode:
    """What comes out of the ring: the device's mode, cropped and turned as the input uses it."""
    return item.used_mode


class RingPlaces:
    """The folders of a data folder's rings."""

    def __init__(self, data_dir: Path) -> None:
        self._shared = private_name(SHARED_MEMORY, data_dir)
        self._mapped = data_dir / "rings"

    def path(self, item: Input) -> Path:
        """Where an input's ring is, or is to be made. Raises EngineError if that is nowhere."""
        name = f"{ring_name(item)}.ring"
        for folder in (self._shared, self._mapped):
            if (folder / name).exists() and is_private(folder):
                return folder / name
        needed = ring_size(ring_mode(item), item.has_track).total_bytes
        # What somebody else has put at its name is not used.
        if _has_room(SHARED_MEMORY, needed) and make_private(self._shared):
            return self._shared / name
        self._mapped.parent.mkdir(parents=True, exist_ok=True)
        if not make_private(self._mapped):
            raise EngineError(f"{self._mapped} belongs to somebody else, so nothing is recorded.")
        return self._mapped / name

    def keep(self, items: "list[Input]") -> None:
        """Remove the rings of all other inputs."""
        kept = {f"{ring_name(i)}.ring" for i in items}
        for folder in (self._shared, self._mapped):
            for path in folder.glob("*.ring") if folder.is_dir() else ():
                if path.name not in kept:
                    with contextlib.suppress(OSError):
                        path.unlink()

    def clear(self) -> None:
        """Remove all of them."""
        for folder in (self._shared, self._mapped):
            shutil.rmtree(folder, ignore_errors=True)


def _has_room(folder: Path, needed: int) -> bool:
    try:
        state = os.statvfs(folder)
    except OSError:
        return False
    free = state.f_bavail * state.f_frsize
    return free - needed > LEFT_FREE * state.f_blocks * state.f_frsize
