"""What a child process does before it becomes the program it runs."""

import ctypes
import signal

_PR_SET_PDEATHSIG = 1


def end_with_parent() -> None:
    """Ask Linux to end this process when its parent is gone; elsewhere do nothing."""
    try:
        ctypes.CDLL(None, use_errno=True).prctl(_PR_SET_PDEATHSIG, signal.SIGTERM)
    except (OSError, AttributeError):
        return
