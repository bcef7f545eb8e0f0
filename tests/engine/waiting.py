"""How tests of what runs beside them wait for it."""

import time


class Waiting:
    """For a `TestCase`."""

    def until(self, holds, seconds=60):
        """Wait for something to hold and give it; fails after so long."""
        deadline = time.monotonic() + seconds
        while not (found := holds()):
            self.assertLess(time.monotonic(), deadline)
            time.sleep(0.02)
        return found
