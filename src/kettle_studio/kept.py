"""What the studio works out once: kept in memory, and in a folder where it was given one.

A process that is started again maps the files and has its devices at once; what nobody reads of
them takes no memory, and what nobody has read for a while none any more.
"""

import contextlib
import functools
import hashlib
import mmap
import os
import shutil
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, ParamSpec, TypeVar

import numpy as np
from numpy.typing import NDArray

from kettle_core.picture import picture

HERE = Path(__file__).parent
# A disk with less room than this is left to takes.
SPARE_BYTES = 1_000_000_000
P = ParamSpec("P")
Kept = TypeVar("Kept", bound=NDArray[Any])

# So often what was read of files leaves this process's memory; what is read again comes back.
LET_GO_S = 20.0

_folder: Path | None = None
_let_go_at = 0.0
_mapped: list[np.memmap[Any, Any]] = []
_writing: list[threading.Thread] = []
# Devices open in threads, and NumPy reads a file's head with Python's own parser, which in 3.11
# fails now and then in two threads at once (CPython issue 106905).
_reading = threading.Lock()


def keep_in(folder: Path) -> None:
    """Keep what is made from now on below a folder; what an older studio kept there goes."""
    global _folder
    _folder = folder / _digest()
    with contextlib.suppress(OSError):
        for other in folder.iterdir():
            if other != _folder:
                shutil.rmtree(other, ignore_errors=True)
        for half in set(_folder.glob("*")) - set(_folder.glob("*.npy")):
            half.unlink()


def kept(make: Callable[P, Kept]) -> Callable[P, Kept]:
    """Have a function of plain values that makes an array do so once, and for later processes.

    The array can't be written to.
    """
    name = make.__qualname__.strip("_")
    known: dict[tuple[Any, ...], Any] = {}

    def found(*values: Any) -> Kept:
        if time.monotonic() >= _let_go_at:
            _let_go()
        array = known.get(values)
        if array is None:
            path = _folder / f"{'-'.join([name, *map(str, values)])}.npy" if _folder else None
            array = known[values] = _read(path)
            if array is None:
                array = make(*values)  # type: ignore[call-arg]
                array.flags.writeable = False
                known[values] = array
                if path:
                    _write_beside(path, array, known, values)
        return array  # type: ignore[return-value, unused-ignore]

    return found  # type: ignore[return-value]


def _read(path: Path | None) -> NDArray[Any] | None:
    try:
        with _reading:
            array = np.load(path, mmap_mode="r") if path else None
    except (OSError, ValueError):
        return None
    if isinstance(array, np.memmap):
        _mapped.append(array)
    return array


def _write_beside(
    path: Path, array: NDArray[Any], known: dict[tuple[Any, ...], Any], values: tuple[Any, ...]
) -> None:
    """Write an array beside what goes on, as a disk may be slow; then its file is used instead."""

    def work() -> None:
        if _write(path, array):
            known[values] = _read(path)
            # So what was read of other files to make this one.
            _let_go()

    thread = threading.Thread(target=work, name=f"keep {path.name}", daemon=True)
    _writing.append(thread)
    thread.start()


def _let_go() -> None:
    """Have what was read of files leave this process's memory."""
    global _let_go_at
    _let_go_at = time.monotonic() + LET_GO_S
    for array in list(_mapped):
        array._mmap.madvise(mmap.MADV_DONTNEED)  # type: ignore[attr-defined]


def written() -> None:
    """Wait until all is written that is being written."""
    while _writing:
        _writing.pop().join()


def _write(path: Path, array: NDArray[Any]) -> bool:
    """Whether there was room for a file of an array."""
    if not _has_room(path):
        return False
    beside = path.with_suffix(f".{os.getpid()}")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with beside.open("wb") as file:
            np.save(file, array)
        beside.replace(path)
    except OSError:
        beside.unlink(missing_ok=True)
        return False
    return True


def _has_room(path: Path) -> bool:
    """Whether takes would not miss the room on the disk."""
    there = next(folder for folder in path.parents if folder.exists())
    try:
        return shutil.disk_usage(there).free > SPARE_BYTES
    except OSError:
        return False


@functools.cache
def _digest() -> str:
    """Of all that what is kept is made with."""
    files = [*HERE.glob("*.py"), *(HERE / "assets").iterdir(), Path(picture.__file__)]
    found = hashlib.sha256()
    for path in sorted(files):
        found.update(path.name.encode() + path.read_bytes())
    return found.hexdigest()[:16]
