"""A show as a program's file: what both a take's program and an assembly's are written by."""

from contextlib import closing
from pathlib import Path

from kettle_core.rig.devices import Mode
from kettle_core.rig.encoder_settings import program_settings
from kettle_core.rig.format import ProgramFormat
from kettle_media.program.cells import Cell, Composed, cells_of
from kettle_media.program.mix import ProgramMix, Stems
from kettle_media.program.program_file import ProgramWriting, Progress, write_program
from kettle_media.program.renderer import Renderer
from kettle_media.program.show import Show


def write_show(
    show: Show,
    target: Path,
    written: ProgramFormat,
    known: Composed,
    on_progress: Progress,
    stems_path: Path | None = None,
) -> tuple[Cell, ...]:
    """Write a show's pictures and mix; gives the cells it was made of.

    Parameters
    ----------
    target : the MP4 to write
    written : how it is encoded
    known : a program of which cells that are the same are taken over
    stems_path : where the plan's stems go

    Raises
    ------
    TakeError
        If something can't be read or the file can't be written.
    """
    plan = show.plan
    settings = program_settings(written, Mode(*plan.frame_size, plan.fps))
    cells = cells_of(plan, settings, show.identities())
    renderer = Renderer(plan, show.sources, show.masks)
    with closing(Stems(plan.stems, show.sounds.read, stems_path or target.parent)) as stems:
        made = ProgramWriting(
            plan=plan,
            settings=settings,
            written=written,
            cells=cells,
            known=known if settings.stitchable else Composed(known.path),
            frames=renderer.frames,
            mix=ProgramMix(plan, show.sounds.read),
            stems=stems,
        )
        write_program(target, made, on_progress)
    return cells
