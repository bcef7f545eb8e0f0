"""What goes wrong with a file of pictures or sound, told in words."""

import errno
from pathlib import Path

from av.error import FFmpegError

from kettle_core.errors import KettleError, NoRoomError, SoundError, TakeError

# The disk is full, the quota is used up, it is mounted to be read only, or it fails.
NO_ROOM = (errno.ENOSPC, errno.EDQUOT, errno.EROFS, errno.EIO)


class Told:
    """Turns library and system errors about a file into a `kind` of error that names it."""

    def __init__(
        self,
        path: Path,
        writing: bool = False,
        sentence: str = "The track {} cannot be used",
        kind: type[KettleError] = TakeError,
    ) -> None:
        self._path, self._writing = path, writing
        self._sentence, self._kind = sentence, kind

    def __enter__(self) -> None: ...

    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> None:
        if isinstance(error, KettleError) or not isinstance(
            error, FFmpegError | OSError | ValueError
        ):
            return
        if self._writing and getattr(error, "errno", None) in NO_ROOM:
            told = f"{self._name} cannot be written: {getattr(error, 'strerror', error)}."
            raise NoRoomError(told) from error
        raise self._kind(f"{self._sentence.format(self._name)}: {error}.") from error

    @property
    def _name(self) -> str:
        """The name that a file gets when it is whole."""
        return self._path.name.removeprefix(".").replace(".part.", ".")


def sound_told(path: Path, writing: bool = False) -> Told:
    """The same for a sound file that somebody gave or wants: a SoundError."""
    return Told(path, writing, "{} cannot be used as sound", SoundError)
