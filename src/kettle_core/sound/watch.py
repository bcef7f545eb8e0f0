"""Whether a sound hears anything, is quiet, silent or clips."""

from dataclasses import dataclass

# A voice above this is heard; a quiet room with a working microphone lies between the two.
HEARS_ABOVE_DBFS = -45.0
DEAD_BELOW_DBFS = -90.0
HEARD_FOR_S = 2.0
NOTHING_AFTER_S = 5.0
CLIPPING_FOR_S = 2.0


@dataclass(frozen=True)
class SoundState:
    """An input's state: `word` is hears, quiet, nothing or clipping; `sentence` for people."""

    word: str
    sentence: str


class SoundWatch:
    """Follows the level of one sound and says what it hears."""

    def __init__(self, hears: str = "hears you") -> None:
        self._hears = hears
        self._now_s = 0.0
        self._heard_s = -HEARD_FOR_S
        self._alive_s = 0.0
        self._clipped_s = -CLIPPING_FOR_S

    def take(self, peak_dbfs: float, clipped: bool, elapsed_s: float) -> None:
        """Add the peak level of a stretch of sound."""
        self._now_s += elapsed_s
        if peak_dbfs > HEARS_ABOVE_DBFS:
            self._heard_s = self._now_s
        if peak_dbfs > DEAD_BELOW_DBFS:
            self._alive_s = self._now_s
        if clipped:
            self._clipped_s = self._now_s

    def state(self) -> SoundState:
        """The state now."""
        silent_s = self._now_s - self._alive_s
        if silent_s >= NOTHING_AFTER_S:
            return SoundState("nothing", f"nothing for {int(silent_s)} s")
        if self._now_s - self._clipped_s < CLIPPING_FOR_S:
            return SoundState("clipping", "clipping")
        if self._now_s - self._heard_s < HEARD_FOR_S:
            return SoundState("hears", self._hears)
        return SoundState("quiet", "quiet")
