"""Which of the captured frames a track has."""

from fractions import Fraction

from kettle_core.rig.devices import Mode
from kettle_core.rig.format import TrackFormat
from kettle_core.timing.ticks import NS_PER_S

# A still picture is written again this often, so that a kill does not cost what it shows: a muxer
# keeps the newest packets back.
STILL_REPEAT_NS = NS_PER_S // 5


class FrameChoice:
    """Asked of each frame in turn.

    A frame that equals the one before is left out, but now and then; not where the format wants
    every frame. Where it wants fewer than come, a change that falls between two of them is in the
    next one.
    """

    def __init__(self, track: TrackFormat, mode: Mode) -> None:
        self._steady = track.is_steady
        self._fps = track.fps if track.fps < mode.fps else Fraction(0)
        self._slot, self._owed = -1, False
        self._last_ns = -STILL_REPEAT_NS

    def wants(self, changed: bool, at_ns: int, duration_ns: int) -> bool:
        """Whether a frame is to be written; `at_ns` is its place on the track."""
        self._owed |= changed or self._steady
        wanted = self._owed or at_ns - self._last_ns >= STILL_REPEAT_NS
        if wanted and self._fps:
            # Half a frame of the device early is in time.
            slot = int((at_ns + duration_ns // 2) * self._fps // NS_PER_S)
            wanted, self._slot = slot > self._slot, max(slot, self._slot)
        return wanted

    def begin_anew(self) -> None:
        """The next frame is wanted, whatever was before."""
        self._owed, self._slot = True, -1

    def written(self, at_ns: int) -> None:
        """A frame that was wanted is in."""
        self._owed, self._last_ns = False, at_ns
