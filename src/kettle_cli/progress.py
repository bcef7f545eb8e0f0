"""How far a command is, told while it runs."""

import sys
import time


class Progress:
    """A line that is written over on a terminal; elsewhere one line every tenth."""

    def __init__(self, what: str, unit: str) -> None:
        self._what, self._unit = what, unit
        self._began = time.monotonic()
        self._told = -1

    def __call__(self, done: float, total: float) -> None:
        """Tell how much of how much is done."""
        tenths = int(10 * done / total)
        line = f"{self._what}: {done:.0f} of {total:.0f} {self._unit}"
        if sys.stderr.isatty():
            left_s = (time.monotonic() - self._began) * (total - done) / max(done, 1e-9)
            print(f"\r{line}, {left_s:.0f} s left  ", end="", file=sys.stderr, flush=True)
            if done >= total:
                print(file=sys.stderr)
        elif tenths > self._told:
            self._told = tenths
            print(line, file=sys.stderr)
