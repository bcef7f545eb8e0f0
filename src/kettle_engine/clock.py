"""The master clock: the wall's, or a virtual one that runs as fast as the work is done."""

import time
from typing import Protocol


class Clock(Protocol):
    """Master nanoseconds since the engine began."""

    realtime: bool

    def now_ns(self) -> int:
        """Master time."""

    def sleep_until(self, master_ns: int) -> None:
        """Return once the master time is reached."""


class WallClock:
    """Monotonic time."""

    realtime = True

    def __init__(self, base_ns: int | None = None) -> None:
        # Processes of one engine share the base, and with it the time.
        self.base_ns = time.monotonic_ns() if base_ns is None else base_ns

    def now_ns(self) -> int:
        """Master time."""
        return time.monotonic_ns() - self.base_ns

    def sleep_until(self, master_ns: int) -> None:
        """Sleep for what is left."""
        left_ns = master_ns - self.now_ns()
        if left_ns > 0:
            time.sleep(left_ns / 1e9)


class VirtualClock:
    """Time that goes to wherever somebody waits for; nothing sleeps."""

    realtime = False

    def __init__(self) -> None:
        self._now_ns = 0

    def now_ns(self) -> int:
        """Master time."""
        return self._now_ns

    def sleep_until(self, master_ns: int) -> None:
        """Be there."""
        self._now_ns = max(self._now_ns, master_ns)
