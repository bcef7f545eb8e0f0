"""The whole application, started for a bench or a soak on a data folder of its own."""

import os
import signal
import socket
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from kettle_cli.paths import ROOT
from kettle_cli.steps import interrupted_by
from kettle_core.errors import EngineError
from kettle_engine.client import EngineClient

KETTLE = (sys.executable, "-m", "kettle_cli")
END_S = 40


def environment_of(data: Path) -> dict[str, str]:
    """The environment in which a command works on a data folder."""
    return {**os.environ, "KETTLE_DATA": str(data)}


@contextmanager
def application(data: Path) -> Iterator[tuple[str, int, EngineClient]]:
    """The demo on a data folder: its address, its process id, a client of its engine.

    It ends with whoever started it, also by a signal.
    """
    with interrupted_by(signal.SIGINT, signal.SIGTERM):
        yield from _run(data)


def _run(data: Path) -> Iterator[tuple[str, int, EngineClient]]:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    demo = subprocess.Popen(
        [*KETTLE, "demo", "--port", str(port)],
        cwd=ROOT,
        env=environment_of(data),
        stdout=subprocess.PIPE,
        text=True,
    )
    try:
        base = f"http://127.0.0.1:{port}"
        for line in demo.stdout or ():
            if base in line:
                break
        else:
            raise EngineError("The demo ended before it had begun.")
        yield base, demo.pid, EngineClient(data)
    finally:
        demo.send_signal(signal.SIGINT)
        demo.wait(END_S)
