"""What is played of a take: its plan as small as pages show it, and its sources."""

from collections.abc import Mapping
from dataclasses import dataclass
from math import ceil

from kettle_core.picture.picture import Plane
from kettle_core.program.plan import Plan
from kettle_core.timing.time_map import Source
from kettle_media.program.mix import Read
from kettle_media.program.renderer import Seen
from kettle_media.program.sources import TakeSources
from kettle_media.program.take_program import plan_take
from kettle_media.take.afterwards import follow_cues
from kettle_media.take.align import align_take
from kettle_media.take.folder import TakeFolder

MOST_WIDTH_PX = 1000


@dataclass(frozen=True)
class Show:
    """A plan with all that it is drawn and heard from; closed when it is not played any more."""

    plan: Plan
    sources: Mapping[Source, Seen]
    masks: Mapping[str, Plane]
    read: Read
    opened: tuple[TakeSources, ...]

    def close(self) -> None:
        """Close what was opened."""
        for one in self.opened:
            one.close()


def show_of_take(folder: TakeFolder) -> Show:
    """A take as it counts now, at most 1000 px wide. Raises TakeError."""
    info = folder.read_info()
    sync = align_take(folder, info, info.damaged)
    sources = TakeSources(folder, info, sync, at_once=True)
    rig = sources.rig
    small = rig.format.shrunk(ceil(rig.format.frame_width / MOST_WIDTH_PX))
    said = follow_cues(folder, rig)
    plan, _ = plan_take(rig, said, info.id, sources.length_ns, small)
    take = Source("take", info.id)
    return Show(plan, {take: sources}, sources.masks(), sources.read, (sources,))
