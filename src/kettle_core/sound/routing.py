"""Which sounds go to which tracks."""

from dataclasses import dataclass
from typing import Annotated

from annotated_types import Interval, MaxLen

from kettle_core.fields import Id, Name, within

MAX_STEMS = 16
MAX_SENDS = 64
SEND_LIMITS_DB = (-60.0, 20.0)


@dataclass(frozen=True)
class Send:
    """An input that goes to a track, with a gain of its own."""

    input_id: Id
    gain_db: Annotated[float, within(*SEND_LIMITS_DB)] = 0.0


@dataclass(frozen=True)
class Stem:
    """A sound file of a take: the processed sounds of its inputs, mixed to 1 or 2 channels."""

    id: Id
    name: Name
    channels: Annotated[int, Interval(ge=1, le=2)]
    sends: Annotated[tuple[Send, ...], MaxLen(MAX_SENDS)]

    def sends_of(self, input_id: str) -> Send | None:
        """How an input goes to this track, or None."""
        return next((s for s in self.sends if s.input_id == input_id), None)
