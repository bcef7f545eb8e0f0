"""An engine's process from within: its line to the engine, and what it does first."""

import contextlib
import importlib
import mmap
import os
import threading
import time
from collections.abc import Iterator
from multiprocessing.connection import Connection
from typing import Any

from kettle_engine.process import work_frame_by_frame
from kettle_media.memory import give_memory_back

# Of a process that has to show that it lives.
BEAT_EVERY_S = 0.1
# Of freed memory a process keeps this much, and what more there is for so long.
KEPT_BYTES, GIVE_BACK_S = 32 << 20, 10.0


class Beat:
    """Memory that a process shares with the engine: when it last said that it lives, in ns of the
    monotonic clock.
    """

    def __init__(self, file: int) -> None:
        self._map = mmap.mmap(file, 8)
        self._at = memoryview(self._map).cast("q")

    @classmethod
    @contextlib.contextmanager
    def new(cls) -> Iterator[tuple["Beat", int]]:
        """One that nobody has yet, with the file to give on."""
        file = os.memfd_create("beat")
        try:
            os.ftruncate(file, 8)
            yield cls(file), file
        finally:
            os.close(file)

    @property
    def at_ns(self) -> int:
        """When it last beat; 0 if it never did."""
        return self._at[0]

    def beat(self) -> None:
        """Say that this process lives."""
        self._at[0] = time.monotonic_ns()


class Line:
    """A process's end of the connection to the engine.

    `beat` says that it lives; `receive` gives the engine's messages, and EOFError once the
    engine is gone.
    """

    def __init__(self, connection: Connection, beat: Beat) -> None:
        self._connection = connection
        self._beat = beat
        self._sending = threading.Lock()

    def beat(self) -> None:
        """Say that this process lives."""
        self._beat.beat()

    @contextlib.contextmanager
    def beating(self, limit_s: float) -> Iterator[None]:
        """Say so from beside what takes its time, as it should, for so long at most."""
        over = threading.Event()
        until_s = time.monotonic() + limit_s

        def beat() -> None:
            while not over.wait(BEAT_EVERY_S) and time.monotonic() < until_s:
                self.beat()

        threading.Thread(target=beat, name="beat", daemon=True).start()
        try:
            yield
        finally:
            over.set()

    def send(self, *message: Any) -> None:
        """Send a message; an engine that is gone hears nothing."""
        with contextlib.suppress(OSError), self._sending:
            self._connection.send(message)

    def receive(self, timeout_s: float | None = 0.0) -> tuple[Any, ...] | None:
        """The next message, or None if there is none in time (None: wait). Raises EOFError."""
        try:
            if self._connection.poll(timeout_s):
                message: tuple[Any, ...] = self._connection.recv()
                return message
        except OSError as error:
            raise EOFError from error
        return None


def run(connection: int, beat: int) -> None:
    """What a process does: what it is told first. What that raises ends it."""
    work_frame_by_frame(KEPT_BYTES)
    threading.Thread(target=_give_back, name="spare memory", daemon=True).start()
    line = Line(Connection(connection), Beat(beat))
    line.beat()
    # Who is left by the engine has nothing more to do.
    with contextlib.suppress(EOFError):
        work, *arguments = line.receive(None) or ("",)
        module, _, name = work.partition(":")
        getattr(importlib.import_module(module), name)(line, *arguments)


def _give_back() -> None:
    """Now and then let go of memory that is kept for the next frame and was not needed again.

    What takes much for a while (devices that open, a page that is drawn anew) would be kept.
    """
    while True:
        time.sleep(GIVE_BACK_S)
        give_memory_back()
