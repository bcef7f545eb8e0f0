"""An assembly's program as a file."""

from collections.abc import Mapping
from contextlib import closing
from dataclasses import replace
from pathlib import Path

from kettle_core.assembly.cut_list import CutList
from kettle_core.rig.format import Format
from kettle_media.assembly.show import NO_FILES, show_of_assembly
from kettle_media.durable import put_in_place
from kettle_media.program.cells import Composed
from kettle_media.program.program_file import Progress
from kettle_media.program.program_sound import limited_for
from kettle_media.program.write_show import write_show
from kettle_media.take.align import GiveWay, go_on
from kettle_media.take.folder import TakeFolder
from kettle_media.told import Told


def assemble(
    takes: Mapping[str, TakeFolder],
    cuts: CutList,
    format_: Format,
    target: Path,
    on_progress: Progress = lambda done, total: None,
    give_way: GiveWay = go_on,
    files: Path = NO_FILES,
) -> int:
    """Compose a cut list's program as an MP4; gives how many frames it has.

    Parameters
    ----------
    takes : folders by their takes' UUIDs
    files : the folder in which added files lie
    target : replaced only when the new file is whole

    Raises
    ------
    CutError, TakeError
        If something of it can't be read, or the file can't be written; nothing is left then.
    """
    part = target.with_name(f".{target.stem}.part.mp4")
    with closing(show_of_assembly(takes, cuts, format_, False, give_way, files)) as show:
        # Stems are a take's; an assembly's are made when they are handed over.
        plan = limited_for(replace(show.plan, stems=()), format_.program)
        plain = replace(show, plan=plan)
        try:
            write_show(plain, part, format_.program, Composed(target), on_progress)
            with Told(target, True, "{} cannot be written"):
                put_in_place(part, target)
        finally:
            part.unlink(missing_ok=True)
        return plain.plan.frames
