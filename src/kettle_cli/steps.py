"""Steps of a check: commands that are run in lanes beside each other, and reported at the end."""

import os
import re
import signal
import subprocess
import sys
import threading
import time
from collections import deque
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field

from kettle_cli.paths import ROOT
from kettle_cli.usage import stolen_s
from kettle_media.priority import rank_process

# A step that takes longer hangs: it is ended, and its processes say where they stood.
LIMIT_S = 2400.0
GRACE_S, LOOK_EVERY_S = 10.0, 0.05
# Its niceness, which is below that of all that the application does.
GIVES_WAY = 15
# Of a step that failed so many lines are repeated at the end, where a reader looks first.
REPEATED = 80
# How a step tells of its slowest tests (tests/runner.py), and of how many it is told again.
TOOK = re.compile(rb"\D*(?P<took>[\d.]+) s +(?P<cpu>[\d.]+) s CPU  (?P<name>tests\..*)")
SLOWEST = 10
# How it tells what all of its processes took, those too that nobody waited for.
IN_ALL = re.compile(rb"All took (\d+) s CPU")


@dataclass
class Step:
    """A command under a name, in a session of its own; it may give way to the others."""

    name: str
    command: list[str]
    gives_way: bool = False
    status: int = 0
    took_s: float = 0.0
    cpu_s: float = 0.0
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
        if self.gives_way:
            # `nice` alone counts within its own session only, where the system groups by sessions.
            rank_process(self._process.pid, GIVES_WAY)
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

    def is_over(self, limit_s: float) -> bool:
        """Whether it has ended; one that takes longer than `limit_s` is ended."""
        if self._process is None or self._reader is None:
            return True
        self.took_s = time.monotonic() - self._began_s
        ended = self._look()
        if not ended and self.took_s < limit_s:
            return False
        if not ended:
            self.end(signal.SIGABRT)
            print(f"“{self.name}” did not end within {limit_s:.0f} s.", file=sys.stderr)
        self.status = self._process.wait()
        self._reader.join(GRACE_S)
        told = (m for line in self.printed if (m := IN_ALL.match(line)))
        self.cpu_s = max([self.cpu_s, *(float(match[1]) for match in told)])
        if self._aside:
            print(f"── {self.name}", flush=True)
            _print(list(self.printed))
        return True

    def _look(self) -> bool:
        """Whether it has ended; then its processes' time is known too."""
        if self._process is None or self._process.returncode is not None:
            return True
        pid, status, usage = os.wait4(self._process.pid, os.WNOHANG)
        if not pid:
            return False
        self._process.returncode = os.waitstatus_to_exitcode(status)
        self.cpu_s = usage.ru_utime + usage.ru_stime
        return True

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


def run_lanes(
    lanes: Sequence[Sequence[Step]],
    environment: dict[str, str],
    limit_s: float = LIMIT_S,
) -> int:
    """Run lanes beside each other, of each lane one step at a time.

    A lane that has nothing left takes over what gives way in another one. Whatever fails, the
    rest goes on. Gives how many failed.
    """
    done = [step for lane in lanes for step in lane]
    began_s, stolen_before_s = time.monotonic(), stolen_s()
    with interrupted_by(signal.SIGINT, signal.SIGTERM):
        _run(lanes, environment, limit_s)
    took_s = time.monotonic() - began_s
    for step in done:
        if step.status:
            print(f"── the end of what “{step.name}” printed", flush=True)
            _print(list(step.printed)[-REPEATED:])
    print("──")
    for step in done:
        spent = f"{step.took_s:.0f} s, {step.cpu_s:.0f} s CPU"
        print(f"{'FAILED' if step.status else 'ok':<7}{step.name} ({spent})")
    _print_slowest(done)
    failed = sum(1 for step in done if step.status)
    stolen = (stolen_s() - stolen_before_s) / (took_s * (os.cpu_count() or 1))
    cpu_s = sum(step.cpu_s for step in done)
    print(f"All took {took_s:.0f} s and {cpu_s:.0f} s CPU; other machines", end=" ")
    print(f"had {stolen:.0%} of the processors meanwhile.")
    print(f"{len(done) - failed} passed, {failed} failed", flush=True)
    return failed


def _print_slowest(steps: Sequence[Step]) -> None:
    """Of all tests those that took the most of the processors, as their steps have told."""
    found = [m for step in steps for line in step.printed if (m := TOOK.match(line))]
    for match in sorted(found, key=lambda m: -float(m["cpu"]))[:SLOWEST]:
        print(f"{float(match['cpu']):6.1f} s CPU {float(match['took']):6.1f} s  "
              f"{match['name'].decode(errors='replace')}")  # fmt: skip


@contextmanager
def interrupted_by(*signals: signal.Signals) -> Iterator[None]:
    """Have signals interrupt what runs, also one that whoever started this has us ignore."""
    before = {number: signal.signal(number, signal.default_int_handler) for number in signals}
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


def _run(lanes: Sequence[Sequence[Step]], environment: dict[str, str], limit_s: float) -> None:
    """Start the first of every lane, and the next one whenever one has ended."""
    print(f"── {', '.join(step.name for lane in lanes for step in lane)}", flush=True)
    waiting = [deque(lane) for lane in lanes if lane]
    running: list[Step | None] = [None] * len(waiting)
    try:
        while any(waiting) or any(running):
            for lane in range(len(waiting)):
                step = running[lane]
                if step and step.is_over(limit_s):
                    step = running[lane] = None
                if step is None and (found := _next_of(waiting, lane)):
                    running[lane] = found
                    found.start(environment, aside=len(waiting) > 1)
            time.sleep(LOOK_EVERY_S)
    except BaseException:
        for step in filter(None, running):
            step.end(signal.SIGTERM)
        raise


def _next_of(waiting: list["deque[Step]"], lane: int) -> Step | None:
    """What a lane runs next: its own, or what gives way in the lane with most of it left."""
    if waiting[lane]:
        return waiting[lane].popleft()
    others = [steps for steps in waiting if steps and steps[0].gives_way]
    return max(others, key=len).popleft() if others else None
