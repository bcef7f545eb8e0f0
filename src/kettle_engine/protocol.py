"""Where the engine is reached and what is said: JSON commands, and messages by topic."""

import hashlib
import os
import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from kettle_core.devices import DeviceInfo
from kettle_core.rig_data import mode_from_dict, mode_to_dict

STATUS, LEVELS, PROGRAM, PICTURE = b"status", b"levels", b"program", b"picture/"
# The level of one sound after its chain, and the sound itself to listen to.
AFTER, HEAR = b"after/", b"hear/"
TOPICS = (STATUS, LEVELS, PROGRAM, PICTURE, AFTER, HEAR)


def socket_folder(data_dir: Path) -> Path:
    """A private folder for the sockets of a data folder.

    Socket paths may be 107 bytes long at most, so they do not lie in the data folder itself.
    """
    digest = hashlib.sha256(str(data_dir.resolve()).encode()).hexdigest()[:12]
    return Path(tempfile.gettempdir()) / f"vast-kettle-{os.getuid()}-{digest}"


def command_address(data_dir: Path) -> str:
    """Where commands are answered (REQ/REP)."""
    return f"ipc://{socket_folder(data_dir)}/commands"


def live_address(data_dir: Path) -> str:
    """Where status, levels and pictures are published (PUB/SUB)."""
    return f"ipc://{socket_folder(data_dir)}/live"


def device_to_dict(info: DeviceInfo) -> dict[str, Any]:
    """A device as plain data, for pages and the command line."""
    return {
        "id": info.id,
        "name": info.name,
        "kind": info.kind,
        "modes": [{**mode_to_dict(m), "words": m.in_words()} for m in info.modes],
        "reported_latency_ms": info.reported_latency_ms,
        "part_of": info.part_of,
        "state": "busy" if info.busy else "free",
    }


def device_from_dict(row: Mapping[str, Any]) -> DeviceInfo:
    """Read what `device_to_dict` wrote."""
    return DeviceInfo(
        row["id"],
        row["name"],
        row["kind"],
        tuple(mode_from_dict(mode) for mode in row["modes"]),
        row["reported_latency_ms"],
        row["part_of"],
        row["state"] == "busy",
    )
