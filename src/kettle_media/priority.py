"""Who records goes first, then who answers; who shows gives way, and long work to everybody."""

import contextlib
import os
import threading
from pathlib import Path

# Niceness of processes, as far as the system lets a user ask for it. A session's weight is split
# between the cores it is on: at −10 an encoder that needs 0.8 of a core got 0.8 beside a burner.
# Who answers needs a tenth of a core, but at once: at −5 a page came after 0.7 s at worst while a
# take was recorded, at −16 after 0.37 s. What shows is worth as much as other programs are; at 5 a
# player stood still beside a busy one.
RECORDS, ANSWERS, SHOWS, WORKS = -20, -16, 0, 5


def lower_priority(nice: int) -> None:
    """Lower the calling thread's priority, on Linux, where threads have one each.

    Threads that it starts from then on, such as an encoder's, have the same.
    """
    with contextlib.suppress(OSError, AttributeError):
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), nice)


def rank(nice: int) -> None:
    """Give the calling process a session of its own and a niceness, before it starts threads.

    Linux shares the processor between sessions first, where it has automatic groups (see
    sched(7)): within one session the highest priority does not help against a busy browser in
    another one.
    """
    with contextlib.suppress(OSError):
        os.setsid()
    rank_process(os.getpid(), nice)


def rank_process(pid: int, nice: int) -> None:
    """Give a process a niceness; if it leads a session, its session the same."""
    with contextlib.suppress(OSError, AttributeError):
        os.setpriority(os.PRIO_PROCESS, pid, nice)
    with contextlib.suppress(OSError):
        if os.getsid(pid) == pid:
            Path(f"/proc/{pid}/autogroup").write_text(f"{nice}\n")
