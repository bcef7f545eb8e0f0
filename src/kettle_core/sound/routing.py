"""Which sounds go to which tracks."""

from dataclasses import dataclass

MAX_STEMS = 16


@dataclass(frozen=True)
class Send:
    """An input that goes to a track, with a gain of its own."""

    input_id: str
    gain_db: float = 0.0


@dataclass(frozen=True)
class Stem:
    """A sound file of a take: the processed sounds of its inputs, mixed to 1 or 2 channels."""

    id: str
    name: str
    channels: int
    sends: tuple[Send, ...]

    def sends_of(self, input_id: str) -> Send | None:
        """How an input goes to this track, or None."""
        return next((s for s in self.sends if s.input_id == input_id), None)
