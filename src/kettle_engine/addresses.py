"""Where the engine is reached. Imports nothing heavy: `./kettle say` waits for it."""

import hashlib
import os
import tempfile
from pathlib import Path


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


def line_path(data_dir: Path) -> Path:
    """The socket that takes a command as a line of JSON and answers with one."""
    return socket_folder(data_dir) / "line"
