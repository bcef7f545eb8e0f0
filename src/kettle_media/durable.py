"""Writing so that a power failure leaves the old file or the new one, never half of either."""

import json
import os
import queue
import threading
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any


def sync_folder(path: Path) -> None:
    """Bring a folder's list of files to the disk."""
    _sync(path, os.fsync)


def sync_file(path: Path) -> None:
    """Bring what has been written to a file, by whomever, to the disk."""
    _sync(path, os.fdatasync)


def _sync(path: Path, how: Callable[[int], None]) -> None:
    descriptor = os.open(path, os.O_RDONLY)
    try:
        how(descriptor)
    finally:
        os.close(descriptor)


def replace_file(target: Path, data: bytes, synced: bool = True) -> None:
    """Replace a file by another one that is on the disk before it takes the name.

    Not `synced`, who comes later brings it to the disk: a busy one takes seconds for that.
    """
    fresh = target.with_name(f"{target.name}.new")
    try:
        with fresh.open("wb") as file:
            file.write(data)
        if synced:
            put_in_place(fresh, target)
        else:
            fresh.replace(target)
    except OSError:
        fresh.unlink(missing_ok=True)
        raise


def put_in_place(fresh: Path, target: Path) -> None:
    """Give a finished file its name, with all of it on the disk before."""
    sync_file(fresh)
    fresh.replace(target)
    sync_folder(target.parent)


class LineFile:
    """A file of JSON lines with a writer of its own: who writes a line never waits for the disk.

    An error of the disk is kept in `error` and the lines go on being tried; none is raised.
    `at_once` writes in the caller's thread instead, for the virtual clock.
    """

    def __init__(self, path: Path, at_once: bool = False) -> None:
        self.path = path
        self.error = ""
        self.lost = 0
        self._queue: queue.SimpleQueue[str | None] = queue.SimpleQueue()
        self._thread: threading.Thread | None = None
        if not at_once:
            self._thread = threading.Thread(target=self._run, name=path.name, daemon=True)
            self._thread.start()

    def write(self, values: Mapping[str, Any]) -> None:
        """Add a line."""
        line = json.dumps(values, ensure_ascii=False) + "\n"
        if self._thread:
            self._queue.put(line)
        else:
            self._append(line)

    def close(self, timeout_s: float = 5.0) -> None:
        """Write what is left, as far as the disk lets it."""
        if self._thread:
            self._queue.put(None)
            self._thread.join(timeout_s)

    def _run(self) -> None:
        while (line := self._queue.get()) is not None:
            self._append(line)

    def _append(self, line: str) -> None:
        try:
            with self.path.open("a") as file:
                file.write(line)
        except OSError as error:
            self.error, self.lost = str(error), self.lost + 1
