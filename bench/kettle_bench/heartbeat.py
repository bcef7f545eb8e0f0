"""How long the machine stood still: what a process lost meanwhile is not its own fault."""

import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

MOST_BEATS = 6000
BEATING = """
import os, time
parent, last = os.getppid(), time.monotonic()
while os.getppid() == parent:
    time.sleep(0.01)
    now = time.monotonic()
    print(now, now - last, flush=True)
    last = now
"""


@contextmanager
def heartbeat(path: Path) -> Iterator[Callable[[float], float]]:
    """Give how long at most, in s, a process that wants to beat each 10 ms was kept from it.

    That is asked with a moment of the monotonic clock, in s, since when; `path` is for its beats,
    of which the last minute is known.
    """
    with path.open("w") as file:
        beating = subprocess.Popen([sys.executable, "-c", BEATING], stdout=file)

    def stall_since(since_s: float) -> float:
        lines = [line.split() for line in path.read_text().splitlines()[-MOST_BEATS:]]
        whole = [(float(line[0]), float(line[1])) for line in lines if len(line) == 2]
        stood_s = [stood_s for at_s, stood_s in whole if at_s > since_s]
        # The one that lasts still has no beat of its own.
        last_s = whole[-1][0] if whole else since_s
        return max([*stood_s, time.monotonic() - max(last_s, since_s)])

    try:
        yield stall_since
    finally:
        beating.kill()
        beating.wait()
