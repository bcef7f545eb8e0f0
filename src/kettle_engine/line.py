"""An engine's process from within: its line to the engine, and what it does first."""

import contextlib
import importlib
import mmap
import os
import select
import socket
import threading
import time
from collections import deque
from collections.abc import Iterator
from typing import Any

from kettle_engine.mailbox import Mailbox
from kettle_engine.process import work_frame_by_frame
from kettle_media.memory import give_memory_back

# Of a process that has to show that it lives.
BEAT_EVERY_S = 0.1
# Of freed memory a process keeps this much, and what more there is for so long.
KEPT_BYTES, GIVE_BACK_S = 32 << 20, 10.0
# An engine that stands still for longer does not hear what a process says last.
LAST_WORDS_S = 60.0


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
    """A process's end of the connection to the engine, which may stand still: nothing waits for it.

    `beat` says that it lives; `receive` gives the engine's messages, and EOFError once the
    engine is gone. Messages may be sent from any thread, and are heard by one.
    """

    def __init__(self, mailbox: Mailbox, beat: Beat) -> None:
        self._mailbox = mailbox
        self._beat = beat
        self._lock = threading.Lock()
        self._heard: deque[tuple[Any, ...]] = deque()

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
        with self._lock:
            self._mailbox.send(message)

    def send_newest(self, *message: Any) -> None:
        """Send one in place of one with the same first word that has not gone out."""
        with self._lock:
            self._mailbox.send(message, str(message[0]))

    def close(self, patience_s: float) -> None:
        """Have all of it go out before this process ends, if the engine hears it by then."""
        until_s = time.monotonic() + patience_s
        while self._mailbox.waiting and time.monotonic() < until_s:
            time.sleep(BEAT_EVERY_S)
            with self._lock:
                self._mailbox.post()

    def receive(self, timeout_s: float | None = 0.0) -> tuple[Any, ...] | None:
        """The next message, or None if there is none in time (None: wait). Raises EOFError."""
        until_s = None if timeout_s is None else time.monotonic() + timeout_s
        while True:
            with self._lock:
                self._mailbox.post()
                self._heard += self._mailbox.collect()
                handle = self._mailbox.handle
            if self._heard:
                return self._heard.popleft()
            if handle is None:
                raise EOFError
            left_s = None if until_s is None else until_s - time.monotonic()
            if left_s is not None and left_s <= 0:
                return None
            # What waits to go out is looked after now and then.
            select.select([handle], [], [], min(left_s or BEAT_EVERY_S, BEAT_EVERY_S))


def run(connection: int, beat: int) -> None:
    """What a process does: what it is told first. What that raises ends it."""
    work_frame_by_frame(KEPT_BYTES)
    threading.Thread(target=_give_back, name="spare memory", daemon=True).start()
    line = Line(Mailbox(socket.socket(fileno=connection)), Beat(beat))
    line.beat()
    # Who is left by the engine has nothing more to do.
    with contextlib.suppress(EOFError):
        work, *arguments = line.receive(None) or ("",)
        module, _, name = work.partition(":")
        getattr(importlib.import_module(module), name)(line, *arguments)
        line.close(LAST_WORDS_S)


def _give_back() -> None:
    """Now and then let go of memory that is kept for the next frame and was not needed again.

    What takes much for a while (devices that open, a page that is drawn anew) would be kept.
    """
    while True:
        time.sleep(GIVE_BACK_S)
        give_memory_back()
