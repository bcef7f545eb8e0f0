"""Where the engine is reached. Imports nothing heavy: `./kettle say` waits for it."""

import hashlib
import os
import stat
import tempfile
from pathlib import Path

# Folders at names that others can guess: so many are tried until one is ours.
TRIED = 16


def is_private(folder: Path) -> bool:
    """Whether a folder is there, the user's own, and nobody else may look or write into it."""
    try:
        found = folder.lstat()
    except OSError:
        return False
    own = stat.S_ISDIR(found.st_mode) and found.st_uid == os.getuid()
    return own and not found.st_mode & 0o077


def make_private(folder: Path) -> bool:
    """Make a folder for the user alone; False where another one's stands at its name.

    One of the user's own that others may look into is closed to them.
    """
    try:
        folder.mkdir(mode=0o700, exist_ok=True)
        found = folder.lstat()
        if stat.S_ISDIR(found.st_mode) and found.st_uid == os.getuid():
            folder.chmod(0o700)
    except OSError:
        return False
    return is_private(folder)


def socket_folder(data_dir: Path) -> Path:
    """A private folder for the sockets of a data folder.

    Socket paths may be 107 bytes long at most, so they do not lie in the data folder itself. Of
    names at which somebody else has put something the next one is taken.
    """
    return private_name(Path(tempfile.gettempdir()), data_dir)


def private_name(below: Path, data_dir: Path) -> Path:
    """A folder of a data folder below one where everybody may make some."""
    digest = hashlib.sha256(str(data_dir.resolve()).encode()).hexdigest()[:12]
    first = f"vast-kettle-{os.getuid()}-{digest}"
    tried = [below / name for name in (first, *(f"{first}-{n}" for n in range(1, TRIED)))]
    return next((folder for folder in tried if _is_ours_or_free(folder)), tried[0])


def _is_ours_or_free(folder: Path) -> bool:
    try:
        found = folder.lstat()
    except FileNotFoundError:
        return True
    except OSError:
        return False
    return stat.S_ISDIR(found.st_mode) and found.st_uid == os.getuid()


def open_socket_folder(data_dir: Path) -> Path:
    """That folder, made and closed to others. Raises PermissionError where that can't be."""
    folder = socket_folder(data_dir)
    if not make_private(folder):
        raise PermissionError(f"{folder} belongs to somebody else. Remove it, or set TMPDIR.")
    return folder


def command_address(data_dir: Path) -> str:
    """Where commands are answered (REQ/REP)."""
    return f"ipc://{socket_folder(data_dir)}/commands"


def live_address(data_dir: Path) -> str:
    """Where status, levels and pictures are published (PUB/SUB)."""
    return f"ipc://{socket_folder(data_dir)}/live"


def line_path(data_dir: Path) -> Path:
    """The socket that takes a command as a line of JSON and answers with one."""
    return socket_folder(data_dir) / "line"
