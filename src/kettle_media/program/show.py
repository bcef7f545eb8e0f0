"""What a program is made of: a plan with all that it is drawn and heard from."""

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

from kettle_core.picture.picture import Plane
from kettle_core.program.plan import Plan
from kettle_core.timing.time_map import Source
from kettle_media.program.line_sounds import LineSounds, Sounding
from kettle_media.program.renderer import Seen
from kettle_media.program.sources import TakeSources


class Shown(Seen, Sounding, Protocol):
    """What can be seen and heard of a source, until it is closed."""

    def identity(self) -> str:
        """A text that is another one when anything of it could be."""
        ...

    def close(self) -> None:
        """Close what was opened."""
        ...


@dataclass(frozen=True)
class Show:
    """A plan with what it needs; closed when nothing more is wanted of it."""

    plan: Plan
    sources: Mapping[Source, Shown]
    masks: Mapping[str, Plane]
    # Program times in ns and what begins there.
    chapters: tuple[tuple[int, str], ...] = ()
    # Sources that somebody else closes.
    lent: frozenset[Source] = frozenset()

    @cached_property
    def sounds(self) -> LineSounds:
        """What its sound lines are read from."""
        return LineSounds(self.sources)

    def identities(self) -> dict[Source, str]:
        """Of every source a text that is another one when any picture of it could be."""
        return {source: one.identity() for source, one in self.sources.items()}

    def rest(self) -> None:
        """Let go of takes for a while: they are opened again when they are asked for."""
        for source, one in self.sources.items():
            if source not in self.lent and isinstance(one, TakeSources):
                one.rest()

    def close(self) -> None:
        """Close what was opened for it."""
        for source, one in self.sources.items():
            if source not in self.lent:
                one.close()
