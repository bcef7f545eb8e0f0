"""What is played of a take: its plan as small as pages show it, and its sources."""

from math import ceil

from kettle_core.timing.time_map import Source
from kettle_media.program.show import Show
from kettle_media.program.sources import TakeSources
from kettle_media.program.take_program import plan_take
from kettle_media.take.afterwards import follow_cues
from kettle_media.take.align import align_take
from kettle_media.take.folder import TakeFolder

MOST_WIDTH_PX = 1000


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
    return Show(plan, {take: sources}, sources.masks())
