"""What a program is made of: a plan with all that it is drawn and heard from."""

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

from kettle_core.picture.picture import Plane
from kettle_core.program.plan import Plan
from kettle_core.timing.time_map import Source
from kettle_media.program.line_sounds import LineSounds
from kettle_media.program.sources import TakeSources


@dataclass(frozen=True)
class Show:
    """A plan with what it needs; closed when nothing more is wanted of it."""

    plan: Plan
    sources: Mapping[Source, TakeSources]
    masks: Mapping[str, Plane]

    @cached_property
    def sounds(self) -> LineSounds:
        """What its sound lines are read from."""
        return LineSounds(self.sources)

    def identities(self) -> dict[Source, str]:
        """Of every source a text that is another one when any picture of it could be."""
        return {source: one.identity() for source, one in self.sources.items()}

    def close(self) -> None:
        """Close what was opened."""
        for one in self.sources.values():
            one.close()
