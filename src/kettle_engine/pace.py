"""How often a second pages are shown something new at most; who starts it may ask for less.

It is read from `KETTLE_REFRESH`, which `./kettle demo` and `serve` set (`--refresh`), so that every
process of the engine goes by it.
"""

import os

REFRESH = "KETTLE_REFRESH"
# Two pictures a second are read of what nobody looks at; most are drawn while a layer is dragged.
LEAST_PER_S, MOST_PER_S = 2, 40


def every_s(per_s: float) -> float:
    """The least time between two pictures or levels where so many a second would be shown.

    >>> every_s(8)
    0.125
    """
    return 1 / min(per_s, int(os.environ.get(REFRESH, MOST_PER_S)))
