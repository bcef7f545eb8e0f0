"""Marked places at which a test has a process die, stand still or wait (`./kettle soak --table`).

Switched on by KETTLE_FAULT_POINTS, a folder: a file there with a place's name says once what is to
happen when the next process comes to it: "kill", "stop", or "hold" for a moment.
"""

import os
import signal
import time
from pathlib import Path

FOLDER = os.environ.get("KETTLE_FAULT_POINTS", "")
HOLD_S = 0.4


def fault_point(name: str) -> None:
    """Come to a marked place."""
    if FOLDER:
        _happen(Path(FOLDER) / name)


def _happen(ordered: Path) -> None:
    reached = ordered.with_name(f"{ordered.name}.reached")
    try:
        # Of several processes that come to it one is meant.
        ordered.rename(reached)
    except OSError:
        return
    how = reached.read_text()
    if how == "hold":
        time.sleep(HOLD_S)
    else:
        os.kill(os.getpid(), signal.SIGKILL if how == "kill" else signal.SIGSTOP)
