"""Says to other processes that a take is counted down or recorded, so that long work gives way."""

import contextlib
import fcntl
import os
import time
from collections.abc import Callable
from pathlib import Path

from kettle_engine.addresses import open_socket_folder

LOOK_EVERY_S = 0.1


def _open(data_dir: Path) -> int:
    return os.open(open_socket_folder(data_dir) / "taking", os.O_CREAT | os.O_RDWR, 0o600)


class TakingFlag:
    """The engine's side: a lock on a file, which the system lets go when the engine is gone."""

    def __init__(self, data_dir: Path) -> None:
        self._file = _open(data_dir)
        self.is_up = False

    def put(self, taking: bool) -> None:
        """Raise or lower it; called often, as somebody may be looking at it just now."""
        if taking == self.is_up:
            return
        kind = fcntl.LOCK_EX | fcntl.LOCK_NB if taking else fcntl.LOCK_UN
        with contextlib.suppress(BlockingIOError):
            fcntl.flock(self._file, kind)
            self.is_up = taking

    def close(self) -> None:
        """Lower it for good."""
        os.close(self._file)


class GivingWay:
    """The worker's side: called often from long work, it waits while a take is recorded.

    `on_wait` is called with True when it begins to wait and with False when it goes on,
    `meanwhile` again and again while it waits.
    """

    def __init__(
        self,
        data_dir: Path,
        on_wait: Callable[[bool], None] = lambda waiting: None,
        meanwhile: Callable[[], None] = lambda: None,
    ) -> None:
        self._file = _open(data_dir)
        self._on_wait, self._meanwhile = on_wait, meanwhile
        self._looked_s = 0.0

    def __call__(self) -> None:
        """Go on at once, or after the take."""
        now_s = time.monotonic()
        if now_s - self._looked_s < LOOK_EVERY_S:
            return
        if self.is_taken():
            self._on_wait(True)
            while self.is_taken():
                time.sleep(LOOK_EVERY_S)
                self._meanwhile()
            self._on_wait(False)
        self._looked_s = time.monotonic()

    def is_taken(self) -> bool:
        """Whether a take is counted down or recorded."""
        try:
            fcntl.flock(self._file, fcntl.LOCK_SH | fcntl.LOCK_NB)
        except BlockingIOError:
            return True
        fcntl.flock(self._file, fcntl.LOCK_UN)
        return False

    def close(self) -> None:
        """Let the file go."""
        os.close(self._file)
