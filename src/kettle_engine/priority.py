"""Threads that may wait give way to the one that reads the devices."""

import contextlib
import os
import threading


def lower_priority(nice: int) -> None:
    """Lower the calling thread's priority, on Linux, where threads have one each.

    Threads that it starts from then on, such as an encoder's, have the same.
    """
    with contextlib.suppress(OSError, AttributeError):
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), nice)
