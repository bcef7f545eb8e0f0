"""Starts players: all that they need is loaded once, and each is forked from there.

Whoever wants one sends a socket for it by the socket that is this process's standard input; it
ends when that is closed.
"""

import importlib
import os
import select
import signal
import socket
import sys
import traceback

from kettle_core.assembly.beds import BEDS, bed
from kettle_media.player.nest import ASK, MUSIC
from kettle_media.player.process import PlayerProcess
from kettle_media.priority import SHOWS, rank

# When nobody has asked for a player for so long, a piece of music that any may need is made.
IDLE_S = 0.3
# Loaded when they are first used otherwise, which would make the first picture wait.
LOADED = ("scipy.signal", "scipy.ndimage", "soxr", "cv2", "simplejpeg")


def main() -> None:
    """Fork a player for every socket that comes."""
    rank(SHOWS)
    for name in LOADED:
        importlib.import_module(name)
    # Nobody waits for players that have ended.
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    asks = socket.socket(fileno=os.dup(sys.stdin.fileno()))
    unmade: list[str] = []
    while True:
        while unmade and not select.select([asks], [], [], IDLE_S)[0]:
            # Who chooses music hears it at once: every player has what was made here.
            bed(unmade.pop())
        asked, handles, _, _ = socket.recv_fds(asks, len(ASK), 1)
        if asked == MUSIC:
            unmade = list(BEDS)
            continue
        if not handles:
            return
        if os.fork() == 0:
            asks.close()
            _play(handles[0])
        os.close(handles[0])


def _play(handle: int) -> None:
    status = 1
    try:
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        with socket.socket(fileno=handle) as line, line.makefile("rwb", 0) as both:
            PlayerProcess(both).run()
        status = 0
    except Exception:
        traceback.print_exc()
    # A thread that still waits for orders is not waited for.
    os._exit(status)


if __name__ == "__main__":
    main()
