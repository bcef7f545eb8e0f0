"""What is played, as small as pages show it: a take, or takes as a cut list has them.

It is named by plain data, as it comes from another process.
"""

from collections.abc import Mapping
from math import ceil
from pathlib import Path
from typing import Any

from kettle_core.assembly.cut_list import CutList
from kettle_core.rig.format import Format
from kettle_core.timing.time_map import Source
from kettle_media.assembly.cut_file import cuts_from_dict, cuts_to_dict
from kettle_media.assembly.open_takes import OpenTakes
from kettle_media.assembly.show import show_of_assembly
from kettle_media.program.show import Show
from kettle_media.program.sources import TakeSources
from kettle_media.program.take_program import plan_take
from kettle_media.rig_document import format_from_dict, format_to_dict
from kettle_media.take.afterwards import follow_cues
from kettle_media.take.align import align_take, is_measured, stamped_sync
from kettle_media.take.folder import TakeFolder
from kettle_media.take.sync_report import TakeSync

MOST_WIDTH_PX = 1000
Named = dict[str, Any]


def named_take(folder: Path) -> Named:
    """A take as `show_named` reads it."""
    return {"take": str(folder)}


def named_cuts(
    takes: Mapping[str, TakeFolder], cuts: CutList, format_: Format, files: Path
) -> Named:
    """A cut list as `show_named` reads it, with the takes' folders by their UUIDs."""
    return {
        "takes": {take: str(folder.path) for take, folder in takes.items()},
        "cuts": cuts_to_dict(cuts),
        "format": format_to_dict(format_),
        "files": str(files),
    }


def show_named(named: Named, stamped: bool = False, opened: OpenTakes | None = None) -> Show:
    """What is named, as it counts now; a take by its stamps alone, if so. Raises KettleError.

    What is `opened` stays so, and is used again where it is the same.
    """
    if "take" in named:
        folder = TakeFolder(Path(named["take"]))
        sync = stamped_sync(folder, folder.read_info()) if stamped else None
        return show_of_take(folder, sync, None if stamped else opened)
    takes = {take: TakeFolder(Path(path)) for take, path in named["takes"].items()}
    small = _small(format_from_dict(named["format"]))
    cuts, files = cuts_from_dict(named["cuts"]), Path(named["files"])
    if opened:
        opened.keep([folder.path for folder in takes.values()])
    return show_of_assembly(takes, cuts, small, at_once=True, files=files, opened=opened)


def needs_measuring(named: Named) -> bool:
    """Whether it is a take whose sync is not known yet. Raises KettleError."""
    if "take" not in named:
        return False
    folder = TakeFolder(Path(named["take"]))
    return not is_measured(folder, folder.read_info())


def measure(named: Named) -> None:
    """Measure the sync of a take. Raises KettleError."""
    folder = TakeFolder(Path(named["take"]))
    info = folder.read_info()
    align_take(folder, info, info.damaged, at_once=True)


def show_of_take(
    folder: TakeFolder, sync: TakeSync | None = None, opened: OpenTakes | None = None
) -> Show:
    """A take as it counts now, at most 1000 px wide, in a sync or in its own. Raises TakeError."""
    if opened:
        one = opened.take(folder)
        info, sources = one.info, one.sources
    else:
        info = folder.read_info()
        sync = sync or align_take(folder, info, info.damaged, at_once=True)
        sources = TakeSources(folder, info, sync, at_once=True)
    rig = sources.rig
    said = follow_cues(folder, rig)
    plan, _ = plan_take(rig, said, info.id, sources.length_ns, _small(rig.format))
    take = Source("take", info.id)
    lent = frozenset({take} if opened else ())
    return Show(plan, {take: sources}, sources.masks(), lent=lent)


def _small(format_: Format) -> Format:
    return format_.shrunk(ceil(format_.frame_width / MOST_WIDTH_PX))
