"""What a version of a tutorial tells of a take otherwise; the take itself stays as it is."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

from annotated_types import MaxLen, MinLen

from kettle_core.program.afterwards import MOST_CUES, cue_id
from kettle_core.program.cues import Cue

CueId = Annotated[str, MinLen(1), MaxLen(300)]


@dataclass(frozen=True)
class Retold:
    """Cues of a take (its UUID) that a version leaves out, by their ids, and cues of its own.

    What is changed of the take later counts here too, but for these. Times are record time.
    """

    take: Annotated[str, MinLen(1), MaxLen(80)]
    without: Annotated[tuple[CueId, ...], MaxLen(MOST_CUES)] = ()
    cues: Annotated[tuple[Cue, ...], MaxLen(MOST_CUES)] = ()

    def now(self, own: Sequence[Cue]) -> tuple[Cue, ...]:
        """The cues that count, of those that the take has; by their times."""
        left = set(self.without)
        kept = (cue for cue in own if cue_id(cue) not in left)
        return tuple(sorted((*kept, *self.cues), key=lambda cue: cue.at_ns))

    @classmethod
    def between(cls, take: str, own: Sequence[Cue], now: Sequence[Cue]) -> "Retold":
        """What makes of a take's own cues those that are to count.

        >>> from kettle_core.program.cues import Hide, Mark
        >>> Retold.between("t", [Mark(1), Mark(2)], [Mark(2), Hide(3, "webcam-1")])
        Retold(take='t', without=('mark@1',), cues=(Hide(at_ns=3, input='webcam-1', do='hide'),))
        """
        counts, there = set(now), set(own)
        without = dict.fromkeys(cue_id(cue) for cue in own if cue not in counts)
        return cls(take, tuple(without), tuple(cue for cue in now if cue not in there))
