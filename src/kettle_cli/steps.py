"""Steps of a check: commands that are run, some beside each other, and reported at the end."""

import os
import signal
import subprocess
import sys
import threading
import time
from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass, field

from kettle_cli.paths import ROOT

# A step that takes longer hangs: it is ended, and its processes say where they stood.
LIMIT_S = 900.0
GRACE_S = 10.0
# Of a step that failed so many lines are repeated at the end, where a reader looks first.
REPEATED = 80


@dataclass
class Step:
    """A command under a name."""

    name: str
    command: list[str]
    status: int = 0
    took_s: float = 0.0
    printed: deque[bytes] = field(default_factory=lambda: deque(maxlen=100_000), repr=False)
    _process: "subprocess.Popen[bytes] | None" = None
    _reader: threading.Thread | None = None
    _aside: bool = False
    _began_s: float = 0.0

    def start(self, environment: dict[str, str], aside: bool) -> None:
        """Start it; one that runs `aside` is printed when it has ended."""
        self._began_s, self._aside = time.monotonic(), aside
        self._process = subprocess.Popen(
            self.command,
            cwd=ROOT,
            env={**environment, "PYTHONFAULTHANDLER": "1"},
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            start_new_session=True,
        )
        # What it started and left behind may hold the pipe open: nobody waits for its end.
        self._reader = threading.Thread(target=self._read, daemon=True)
        self._reader.start()

    def _read(self) -> None:
        if self._process is None or self._process.stdout is None:
            return
        with self._process.stdout as printed:
            for line in printed:
                self.printed.append(line)
                if not self._aside:
                    _print([line])

    def finish(self, limit_s: float) -> None:
        """Wait for its end, or end it after `limit_s` since its start."""
        if self._process is None or self._reader is None:
            return
        try:
            left_s = self._began_s + limit_s - time.monotonic()
            self.status = self._process.wait(max(0.0, left_s))
        except subprocess.TimeoutExpired:
            self.end(signal.SIGABRT)
            self.status = -signal.SIGABRT
            print(f"“{self.name}” did not end within {limit_s:.0f} s.", file=sys.stderr)
        self.took_s = time.monotonic() - self._began_s
        self._reader.join(GRACE_S)
        if self._aside:
            _print(list(self.printed))

    def end(self, how: signal.Signals) -> None:
        """End it with all its processes; SIGABRT has Python's say where they stood."""
        if self._process is None or self._process.poll() is not None:
            return
        os.killpg(self._process.pid, how)
        try:
            self._process.wait(GRACE_S)
        except subprocess.TimeoutExpired:
            os.killpg(self._process.pid, signal.SIGKILL)
            self._process.wait()


def _print(lines: Sequence[bytes]) -> None:
    sys.stdout.buffer.write(b"".join(lines))
    sys.stdout.flush()


def run_steps(
    groups: Sequence[Sequence[Step]], environment: dict[str, str], limit_s: float = LIMIT_S
) -> int:
    """Run every group, so that one failure does not hide the next; a group's steps run together.

    Gives how many failed.
    """
    for group in groups:
        print(f"── {', '.join(step.name for step in group)}", flush=True)
        try:
            for step in group:
                step.start(environment, aside=len(group) > 1)
            for step in group:
                step.finish(limit_s)
        except BaseException:
            for step in group:
                step.end(signal.SIGTERM)
            raise
    done = [step for group in groups for step in group]
    for step in done:
        if step.status:
            print(f"── the end of what “{step.name}” printed", flush=True)
            _print(list(step.printed)[-REPEATED:])
    print("──")
    for step in done:
        print(f"{'FAILED' if step.status else 'ok':<7}{step.name} ({step.took_s:.0f} s)")
    failed = sum(1 for step in done if step.status)
    print(f"{len(done) - failed} passed, {failed} failed", flush=True)
    return failed
