"""Folders that takes may be recorded into: the data folder's, and those that KETTLE_ROOTS names."""

import os
import time
from dataclasses import dataclass
from pathlib import Path

from kettle_core.errors import TakeError
from kettle_media.take.folder import free_bytes

ROOTS = "KETTLE_ROOTS"
PROBE_BYTES = 64_000_000
PIECE_BYTES = 4_000_000


@dataclass(frozen=True)
class Root:
    """An allowed folder; `value` is how a format names it, "" for the data folder's own.

    `fault` says why nothing can be written there, "" if it can.
    """

    value: str
    path: Path
    fault: str
    free_bytes: int


def root_paths(takes: Path) -> dict[str, Path]:
    """Allowed folders by how a format names them."""
    named = [n for n in os.environ.get(ROOTS, "").split(os.pathsep) if n and Path(n).is_absolute()]
    return {"": takes, **{n: Path(n) for n in named}}


def root_path(takes: Path, value: str) -> Path:
    """The folder that a format names.

    Raises
    ------
    TakeError
        If it is not allowed here, is gone, or can't be written to.
    """
    path = root_paths(takes).get(value)
    if path is None:
        raise TakeError(
            f"{value} is none of the folders that takes may lie in here, so nothing was recorded. "
            "Choose another one on the Format page."
        )
    fault = _fault_of(path, made=not value)
    if fault:
        raise TakeError(f"{fault} Nothing was recorded. Choose another one on the Format page.")
    return path


def roots(takes: Path) -> list[Root]:
    """All allowed folders with the room in them."""
    found = []
    for value, path in root_paths(takes).items():
        fault = _fault_of(path, made=not value)
        found.append(Root(value, path, fault, 0 if fault else free_bytes(path)))
    return found


def _fault_of(path: Path, made: bool) -> str:
    """Why nothing can be written into a folder; one that is `made` when needed may be missing."""
    if not path.exists() and made:
        return ""
    if not path.is_dir():
        return f"The folder {path} is not there."
    if path.is_symlink():
        return f"{path} is a link to another place, which is not allowed."
    if not os.access(path, os.W_OK | os.X_OK) or os.statvfs(path).f_flag & os.ST_RDONLY:
        return f"The folder {path} can't be written to."
    return ""


def measure_speed(path: Path, size_bytes: int = PROBE_BYTES) -> float:
    """Bytes a second that the disk of a folder takes, measured by writing a file.

    Raises
    ------
    TakeError
        If it has no room for that, or can't be written to.
    """
    if free_bytes(path) < 2 * size_bytes:
        raise TakeError(
            f"The disk of {path} has no room for a test of {size_bytes / 1e6:.0f} MB. "
            "Make room or choose another folder."
        )
    probe = path / f".kettle-speed-{os.getpid()}"
    piece = os.urandom(PIECE_BYTES)
    try:
        began = time.monotonic()
        descriptor = os.open(probe, os.O_CREAT | os.O_WRONLY | os.O_EXCL, 0o600)
        try:
            for _ in range(0, size_bytes, PIECE_BYTES):
                os.write(descriptor, piece)
            os.fsync(descriptor)
        finally:
            os.close(descriptor)
        return size_bytes / (time.monotonic() - began)
    except OSError as error:
        raise TakeError(f"The folder {path} can't be written to: {error.strerror}.") from error
    finally:
        probe.unlink(missing_ok=True)
