"""How long a take may go on until its disk is full."""

from kettle_core.errors import TakeError
from kettle_core.rig.estimate import together, track_costs
from kettle_core.rig.rig import Rig
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.take.folder import TakeFolder, free_bytes

# A take is refused where there is room for less, and it is said when so much is left.
LEAST_S, WARN_S = 120, 600
# What a take takes is known from itself after so long.
KNOWN_AFTER_NS = 10 * NS_PER_S


class Room:
    """What is free beyond a reserve, against what a rig's tracks take."""

    def __init__(self, rig: Rig, reserve_bytes: int) -> None:
        self._usual_bytes_per_s = together(track_costs(rig, {})).kbps * 125
        self._reserve_bytes = reserve_bytes

    def left_s(self, free: int, size_bytes: int = 0, elapsed_ns: int = 0) -> float:
        """How long until the reserve is reached, by what was written so far."""
        rate = self._usual_bytes_per_s
        if elapsed_ns > KNOWN_AFTER_NS and size_bytes:
            rate = size_bytes * NS_PER_S / elapsed_ns
        return max(0, free - self._reserve_bytes) / max(rate, 1.0)

    def check(self, folder: TakeFolder, least_s: float = LEAST_S) -> None:
        """Raise TakeError where the room is too short for a take to begin."""
        free = free_bytes(folder.path)
        left_s = self.left_s(free)
        if left_s < least_s:
            raise TakeError(
                f"The disk has {free / 1e6:.0f} MB left, room for {left_s:.0f} s of these tracks; "
                f"{least_s:.0f} s are needed to begin, so nothing was recorded. "
                "Make room or choose another folder."
            )


def left_in_words(left_s: float) -> str:
    """What is said of a disk that is nearly full; "" while there is room.

    >>> left_in_words(430)
    'The disk has room for 7 min more; the take ends by itself before it is full.'
    """
    if left_s >= WARN_S:
        return ""
    length = f"{left_s / 60:.0f} min" if left_s >= 90 else f"{left_s:.0f} s"
    return f"The disk has room for {length} more; the take ends by itself before it is full."
