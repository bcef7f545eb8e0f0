"""How many captures were lost between two that are there: not those of a pause."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class Unwritten:
    """Stretches of record time in ns that a pause leaves out; None where one has no end.

    `start_master_ns` is the master's time of the take's start.
    """

    stretches: Sequence[tuple[int, int | None]]
    start_master_ns: int

    def lost_between(self, before: np.void, after: np.void, each_ns: int) -> int:
        """Captures of one device, each of `each_ns`, that are lost between two rows of times.

        Where the device began anew its numbers say nothing; then it is what is told already.
        """
        if before["segment"] != after["segment"]:
            return int(after["dropped"])
        missing = max(0, int(after["no"]) - int(before["no"]) - 1)
        start = int(before["master_ns"]) - self.start_master_ns + each_ns
        end = int(after["master_ns"]) - self.start_master_ns
        paused_ns = sum(
            max(0, min(end, end if until is None else until) - max(start, first))
            for first, until in self.stretches
        )
        if not paused_ns:
            return missing
        return min(missing, max(0, round((end - start - paused_ns) / each_ns)))
