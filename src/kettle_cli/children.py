"""Processes that are kept running: how one is begun, watched, started again and ended."""

import ctypes
import gc
import logging.config
import multiprocessing
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol

from kettle_cli.paths import DATA, ROOT
from kettle_core.errors import KettleError
from kettle_engine.logs import logging_settings
from kettle_media.priority import rank, rank_process

# What ends more often rests before it is started again: it must not take the rest with it.
RESTARTS_A_MINUTE, REST_S = 5, 10
END_S = 15.0
_PR_SET_PDEATHSIG, _PR_SET_NAME = 1, 15


class Running(Protocol):
    """A process that runs, or has ended: what `subprocess.Popen` has of one."""

    @property
    def pid(self) -> int:
        """Its number."""
        ...

    def poll(self) -> int | None:
        """How it ended; None while it runs."""
        ...

    def wait(self, timeout: float | None = None) -> int:
        """How it ended, once it has. Raises subprocess.TimeoutExpired."""
        ...

    def terminate(self) -> None:
        """Ask it to end."""
        ...

    def kill(self) -> None:
        """End it."""
        ...


# Begins a process of a niceness that writes what it prints into a file.
Begin = Callable[[Path, int], Running]


@dataclass
class Child:
    """A process that is kept running."""

    name: str
    begin: Begin
    nice: int
    process: Running | None = None
    restarted_at: list[float] = field(default_factory=list)

    def start(self) -> None:
        """Start it in a session of its own, so that Ctrl-C reaches only us."""
        logs = DATA / "logs"
        logs.mkdir(parents=True, exist_ok=True)
        # What a library prints by itself; our own lines go into the log, which is rotated.
        self.process = self.begin(logs / f"{file_name(self.name)}.out", self.nice)

    @property
    def is_over(self) -> bool:
        """Whether it was started and has ended."""
        return self.process is not None and self.process.poll() is not None


def file_name(name: str) -> str:
    """What the files of a process are called."""
    return name.replace(" ", "-")


def process_name(name: str) -> str:
    """What a forked process is called in lists of processes."""
    return f"kettle-{file_name(name).removeprefix('worker-')}"


def pid_of(name: str, parent: int) -> int:
    """The number of a process that another one keeps running. Raises KettleError."""
    command = ["pgrep", "-P", str(parent), "-x", process_name(name)]
    found = subprocess.run(command, capture_output=True, text=True, check=False).stdout.split()
    if not found:
        raise KettleError(f"The {name} does not run.")
    return int(found[0])


def program(*command: str) -> Begin:
    """A program of its own, which goes on when we end."""

    def begin(output: Path, nice: int) -> subprocess.Popen[bytes]:
        environment = {**os.environ, "KETTLE_LOG": output.stem}
        with output.open("wb") as file:
            process = subprocess.Popen(
                command, cwd=ROOT, env=environment, stdout=file, stderr=file, start_new_session=True
            )
        rank_process(process.pid, nice)
        return process

    return begin


class Fork:
    """A process that goes on from here with what is loaded already, and ends when we do.

    It starts at once and shares our memory, which must have no threads and no connections.
    """

    def __init__(self, process: Any) -> None:
        self._process = process
        self.pid: int = process.pid

    def poll(self) -> int | None:
        """How it ended; None while it runs."""
        status: int | None = self._process.exitcode
        return status

    def wait(self, timeout: float | None = None) -> int:
        """How it ended, once it has. Raises subprocess.TimeoutExpired."""
        self._process.join(timeout)
        status = self.poll()
        if status is None:
            raise subprocess.TimeoutExpired(self._process.name, timeout or 0.0)
        return status

    def terminate(self) -> None:
        """Ask it to end."""
        self._process.terminate()

    def kill(self) -> None:
        """End it."""
        self._process.kill()


def fork(work: Callable[..., None], *arguments: Any) -> Begin:
    """A function in a process that shares what was loaded before."""

    def begin(output: Path, nice: int) -> Fork:
        # What is there by now is not looked at again by either of us, and so stays shared.
        gc.collect()
        gc.freeze()
        context = multiprocessing.get_context("fork")
        process = context.Process(
            target=_begun, args=(output, nice, work, *arguments), name=output.stem
        )
        process.start()
        return Fork(process)

    return begin


def _begun(output: Path, nice: int, work: Callable[..., None], *arguments: Any) -> None:
    """Become a process of its own: session and rank, signals, name, files."""
    rank(nice)
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, signal.SIG_DFL)
    _ask_linux(_PR_SET_PDEATHSIG, signal.SIGTERM)
    _ask_linux(_PR_SET_NAME, process_name(output.stem).encode())
    file = output.open("w", buffering=1)
    for place in (1, 2):
        os.dup2(file.fileno(), place)
    sys.stdout = sys.stderr = file
    os.environ["KETTLE_LOG"] = output.stem
    logging.config.dictConfig(logging_settings(DATA))
    work(*arguments)


def _ask_linux(what: int, value: Any) -> None:
    """Set something of this process, where there is such a thing."""
    try:
        ctypes.CDLL(None, use_errno=True).prctl(what, value)
    except (OSError, AttributeError):
        return


def log_end(name: str) -> str:
    """Where a process writes, and what it wrote last."""
    path: Path = DATA / "logs" / f"{file_name(name)}.out"
    lines = path.read_text(errors="replace").strip().splitlines() if path.exists() else []
    return f"{path} ends with: {lines[-1] if lines else 'nothing'}"


def watch(children: list[Child], ended: list[int]) -> None:
    """Start again what ends by itself; what does so again and again waits between its starts."""
    while not ended:
        time.sleep(0.3)
        for child in children:
            if not child.is_over or ended:
                continue
            now = time.monotonic()
            child.restarted_at = [t for t in child.restarted_at if t > now - 60]
            often = len(child.restarted_at) > RESTARTS_A_MINUTE
            if often and now - child.restarted_at[-1] < REST_S:
                continue
            child.restarted_at.append(now)
            print(f"The {child.name} ended by itself and is started again.", flush=True)
            if often:
                print(f"It does so again and again; {log_end(child.name)}", flush=True)
            child.start()


def end(children: list[Child]) -> None:
    """End the last ones first, and wait: the engine finishes a running take."""
    running = [c.process for c in reversed(children) if c.process and c.process.poll() is None]
    for process in running:
        process.terminate()
    for process in running:
        try:
            process.wait(END_S)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
