"""The engine's processes as it sees them: how one is started, watched and spoken to."""

import math
import os
import socket
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from kettle_engine.fork_server import FORK_SERVER, Forked
from kettle_engine.line import Beat
from kettle_engine.mailbox import Mailbox

# One that ends that often within a minute is started again more slowly.
OFTEN, OFTEN_S = 4, 2.0
# How often it is looked at how much memory one takes.
MEASURE_EVERY_S = 0.25
PAGE_BYTES = os.sysconf("SC_PAGE_SIZE")


@dataclass(eq=False)
class Child:
    """A process as the engine sees it. Nothing here waits for it, but `wait`."""

    name: str
    # "module:function", so that the engine itself need not have its libraries.
    work: str
    arguments: Callable[[], Sequence[Any]]
    # It is ended and started again when it gives no beat for so long, or takes more memory.
    silent_limit_s: float
    most_bytes: int = 1_500_000_000
    # One that somebody has stopped (SIGSTOP) is known not to be merely slow.
    stopped_limit_s: float = math.inf
    started: int = 0
    # How it ended last.
    exit_status: int = 0
    ended_at: list[float] = field(default_factory=list)
    silent_s: float = 0.0
    # It has been ended, and is looked at again once it has.
    is_condemned: bool = False
    _process: Forked | None = None
    _mailbox: Mailbox | None = None
    _unborn_s: float = 0.0
    _beat: Beat | None = None
    _seen_beat: int = 0
    _unmeasured_s: float = 0.0

    def start(self) -> None:
        """Start it."""
        ours, theirs = socket.socketpair()
        with theirs, Beat.new() as (self._beat, file):
            self._process = FORK_SERVER.fork(theirs.fileno(), file)
        self._mailbox = Mailbox(ours)
        self._mailbox.send((self.work, *self.arguments()))
        self.started += 1
        self.silent_s, self._seen_beat, self._unborn_s = 0.0, 0, 0.0
        self.is_condemned = False

    @property
    def pid(self) -> int:
        """Its process id; 0 if it is not there."""
        return self._process.pid if self._process else 0

    @property
    def is_alive(self) -> bool:
        """Whether it is there."""
        return bool(self._process and self._process.is_alive)

    @property
    def handles(self) -> list[Any]:
        """What to wait for: a message, or its end."""
        line = self._mailbox.handle if self._mailbox else None
        return [*([line] if line else []), *(self._process.handles if self._process else [])]

    def send(self, *message: Any) -> bool:
        """Send a message; False if it is not there to hear it."""
        return bool(self._mailbox and self._mailbox.send(message))

    def send_newest(self, *message: Any) -> bool:
        """Send a message in place of one with the same first word that it has not heard yet."""
        return bool(self._mailbox and self._mailbox.send(message, str(message[0])))

    def messages(self) -> list[tuple[Any, ...]]:
        """What it has said since the last call; what it was told goes on its way too."""
        if self._mailbox is None:
            return []
        self._mailbox.post()
        return self._mailbox.collect()

    def look(self, elapsed_s: float) -> str:
        """Why it has to be ended, or ""; `elapsed_s` is the time since the last look.

        Only time in which the engine itself ran counts as silence: a machine that stood still
        is no reason to end what stood still with it.
        """
        if not self.pid:
            self._unborn_s += min(elapsed_s, 0.2)
            limit_s = self._process.born_within_s if self._process else 0.0
            return "was not begun" if self._unborn_s > limit_s else ""
        beat = self._beat.at_ns if self._beat else 0
        self.silent_s = 0.0 if beat != self._seen_beat else self.silent_s + min(elapsed_s, 0.2)
        self._seen_beat = beat
        if self.silent_s > self.silent_limit_s:
            return f"did not answer for {self.silent_limit_s:.0f} s"
        if self.silent_s > self.stopped_limit_s and is_stopped(self.pid):
            return "was stopped"
        self._unmeasured_s += elapsed_s
        if self._unmeasured_s < MEASURE_EVERY_S:
            return ""
        self._unmeasured_s = 0.0
        if memory_bytes(self.pid) > self.most_bytes:
            return f"took more than {self.most_bytes / 1e6:.0f} MB of memory"
        return ""

    def kill(self) -> None:
        """End it at once."""
        self.is_condemned = True
        if self._process:
            self._process.kill()

    def wait(self, timeout_s: float) -> bool:
        """Wait for its end; whether it has ended."""
        return not self._process or self._process.wait(timeout_s)

    def bury(self) -> int | None:
        """Let go what is left of it; gives its exit status, or None while it lives."""
        if self._process is None or not self._process.wait(0):
            return None
        status = self.exit_status = self._process.exit_status or 0
        self._process.close()
        self._process = None
        self.leave()
        now = time.monotonic()
        self.ended_at = [t for t in self.ended_at if t > now - 60] + [now]
        return status

    @property
    def may_start_at(self) -> float:
        """When it may be started again, on the monotonic clock."""
        return self.ended_at[-1] + OFTEN_S if len(self.ended_at) >= OFTEN else 0.0

    def leave(self) -> None:
        """Hang up; the process takes it that the engine is gone."""
        if self._mailbox:
            self._mailbox.close()


def is_stopped(pid: int) -> bool:
    """Whether a process stands still by a signal, until another one has it go on."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] in "Tt"
    except OSError:
        return False


def memory_bytes(pid: int) -> int:
    """Memory of a process without what it only maps of others' files; 0 if that is not known."""
    try:
        fields = Path(f"/proc/{pid}/statm").read_text().split()
    except OSError:
        return 0
    return (int(fields[1]) - int(fields[2])) * PAGE_BYTES
