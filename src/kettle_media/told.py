"""What goes wrong with a track's file, told in words."""

import errno
from pathlib import Path

from av.error import FFmpegError

from kettle_core.errors import NoRoomError, TakeError

# The disk is full, the quota is used up, it is mounted to be read only, or it fails.
NO_ROOM = (errno.ENOSPC, errno.EDQUOT, errno.EROFS, errno.EIO)


class Told:
    """Turns library and system errors about a track into a TakeError that names the file."""

    def __init__(self, path: Path, writing: bool = False) -> None:
        self._path, self._writing = path, writing

    def __enter__(self) -> None: ...

    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> None:
        if not isinstance(error, FFmpegError | OSError):
            return
        if self._writing and error.errno in NO_ROOM:
            raise NoRoomError(f"{self._path.name} cannot be written: {error.strerror}.") from error
        raise TakeError(f"The track {self._path.name} cannot be used: {error}.") from error
