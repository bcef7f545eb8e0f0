"""Writing so that a power failure leaves the old file or the new one, never half of either."""

import contextlib
import errno
import json
import os
import queue
import threading
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import Future, wait
from contextlib import contextmanager
from pathlib import Path
from typing import Any

# Where somebody waits, a disk that takes its time is waited for so long.
PATIENCE_S = 3.0
# Lines that a disk would not have are kept for when it has room, so many of them.
MOST_LEFT = 10_000
# While a file is written it is brought to the disk so often.
SYNC_EVERY_S = 0.1


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


@contextmanager
def synced_meanwhile(path: Path) -> Iterator[None]:
    """While a file is written bring it to the disk bit by bit, so that little is left at its end.

    A disk that takes its time is not waited for; what it says against that it says again when
    the whole file is brought there.
    """
    stopped = threading.Event()

    def sync() -> None:
        with contextlib.suppress(OSError):
            while not stopped.wait(SYNC_EVERY_S):
                sync_file(path)

    threading.Thread(target=sync, name="disk", daemon=True).start()
    try:
        yield
    finally:
        stopped.set()


def within(patience_s: float | None, do: Callable[[], None]) -> bool:
    """Do something and wait for it so long, or without end; it goes on beside if it is not done.

    Gives whether it is done; what it raised by then is raised.
    """
    if patience_s is None:
        do()
        return True
    done: Future[None] = Future()

    def beside() -> None:
        try:
            do()
            done.set_result(None)
        except BaseException as error:  # raised again where it is waited for
            done.set_exception(error)

    threading.Thread(target=beside, name="disk", daemon=True).start()
    if not wait([done], patience_s).done:
        return False
    done.result()
    return True


def replace_file(target: Path, data: bytes, patience_s: float | None = None) -> None:
    """Replace a file by another one that is on the disk before it takes the name.

    With `patience_s` a disk that does not say so by then is not waited for: the file takes its
    name, and is on the disk when that comes to it. Of several who do so at once the last wins.
    """
    who = f"{os.getpid()}-{threading.get_ident()}"
    fresh = target.with_name(f"{target.name}.{who}.new")
    try:
        with fresh.open("wb") as file:
            file.write(data)
        put_in_place(fresh, target, patience_s)
    except OSError:
        fresh.unlink(missing_ok=True)
        raise


def put_in_place(fresh: Path, target: Path, patience_s: float | None = None) -> None:
    """Give a finished file its name, with all of it on the disk before, see `replace_file`."""
    waited_for = patience_s != 0
    if waited_for:
        within(patience_s, lambda: sync_file(fresh))
    fresh.replace(target)
    if waited_for:
        within(patience_s, lambda: sync_folder(target.parent))


class LineFile:
    """A file of JSON lines with a writer of its own: who writes a line never waits for the disk.

    An error of the disk is kept in `error` and its lines are tried again with the next one; none is
    raised.
    `at_once` writes in the caller's thread instead, for the virtual clock. What must be on the disk
    before it goes on is waited for so long as `write` is told.
    """

    def __init__(self, path: Path, at_once: bool = False) -> None:
        self.path = path
        self.error = ""
        # What the disk would not have yet.
        self._left: list[str] = []
        self._queue: queue.SimpleQueue[tuple[str, threading.Event | None] | None]
        self._queue = queue.SimpleQueue()
        self._thread: threading.Thread | None = None
        if not at_once:
            self._thread = threading.Thread(target=self._run, name=path.name, daemon=True)
            self._thread.start()

    def write(self, values: Mapping[str, Any], patience_s: float = 0.0) -> None:
        """Add a line; with `patience_s` it is on the disk then, or the disk takes longer."""
        line = json.dumps(values, ensure_ascii=False) + "\n"
        if not self._thread:
            self._append(line)
            return
        written = threading.Event() if patience_s else None
        self._queue.put((line, written))
        if written:
            written.wait(patience_s)

    @property
    def lost(self) -> int:
        """How many lines the disk would not have so far."""
        return len(self._left)

    def close(self, timeout_s: float = 5.0) -> None:
        """Write what is left, as far as the disk lets it."""
        if self._thread:
            self._queue.put(None)
            self._thread.join(timeout_s)

    def _run(self) -> None:
        while (item := self._queue.get()) is not None:
            line, written = item
            self._append(line)
            if written:
                with contextlib.suppress(OSError):
                    sync_file(self.path)
                written.set()

    def _append(self, line: str) -> None:
        self._left.append(line)
        del self._left[:-MOST_LEFT]
        try:
            with self.path.open("ab", buffering=0) as file:
                before = file.tell()
                data = "".join(self._left).encode()
                if file.write(data) != len(data):
                    # Half a line is none.
                    file.truncate(before)
                    raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), str(self.path))
            self._left.clear()
            self.error = ""
        except OSError as error:
            self.error = str(error)
