"""A show as a program's file: what both a take's program and an assembly's are written by."""

from collections.abc import Mapping
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from kettle_core.rig.devices import Mode
from kettle_core.rig.encoder_settings import EncoderSettings, program_settings
from kettle_core.rig.format import ProgramFormat
from kettle_media.program.cells import Cell, Composed, cells_of, with_sums
from kettle_media.program.mix import ProgramMix, Stems
from kettle_media.program.program_file import (
    Look,
    ProgramWriting,
    Progress,
    checksums,
    write_program,
)
from kettle_media.program.program_sound import Listen, SoundWriting
from kettle_media.program.renderer import Renderer
from kettle_media.program.show import Show
from kettle_media.program.sound_cells import sound_cells_of, stem_key
from kettle_media.program.spool import Spool
from kettle_media.tags import NO_TAGS, Tags


@dataclass(frozen=True)
class Written:
    """What a program was made of: cells of its pictures and sound, and what stems hang on."""

    show: Show
    cells: tuple[Cell, ...]
    sounds: tuple[Cell, ...]
    stems: Mapping[str, str]

    def composed(self, there: Path, target: Path) -> Composed:
        """As it is kept for the next time: of the file that is `there` and is to be the target."""
        fps = self.show.plan.fps
        seen, heard = checksums(there, fps, self.cells, self.sounds)
        return Composed(
            target, with_sums(self.cells, seen), with_sums(self.sounds, heard), self.stems
        )


def write_show(
    show: Show,
    target: Path,
    written: ProgramFormat,
    known: Composed,
    on_progress: Progress,
    stems_path: Path | None = None,
    picture: EncoderSettings | None = None,
    container: str = "mp4",
    tags: Tags = NO_TAGS,
    spool: Spool | None = None,
    look: Look | None = None,
    listen: Listen | None = None,
) -> Written:
    """Write a show's pictures, its mix, and the stems that are not there as they are by now.

    Parameters
    ----------
    target : the MP4 to write
    written : how it is encoded
    known : a program of which cells that are the same are taken over
    stems_path : where the plan's stems are
    picture : how pictures are encoded, if not as `written` says
    container : of the file, by libav's name
    tags : what the file says of itself
    spool : where packets are kept until the file is whole; taken over where they are there
    look, listen : are given frames and the mix as they are encoded

    Raises
    ------
    TakeError
        If something can't be read or the file can't be written.
    """
    plan, identities = show.plan, show.identities()
    settings = picture or program_settings(written, Mode(*plan.frame_size, plan.fps))
    folder = stems_path or target.parent
    keys = {stem.id: stem_key(stem, plan.samples, identities) for stem in plan.stems}
    made = Written(
        show,
        cells_of(plan, settings, identities),
        sound_cells_of(plan, written, identities),
        keys,
    )
    changed = [
        stem
        for stem in plan.stems
        if known.stems.get(stem.id) != keys[stem.id] or not (folder / f"{stem.id}.flac").is_file()
    ]
    taken_over = known if settings.stitchable else Composed(known.path)
    renderer = Renderer(plan, show.sources, show.masks)
    with closing(Stems(changed, show.sounds.read, folder)) as stems:

        def mix_from(sample: int) -> ProgramMix:
            return ProgramMix(plan, show.sounds.read, sample, written.channels)

        sound = SoundWriting(plan.samples, written, made.sounds, known, mix_from, stems, listen)
        writing = ProgramWriting(
            plan,
            settings,
            made.cells,
            taken_over,
            renderer.frames,
            sound,
            container,
            tags,
            show.chapters,
            spool if settings.stitchable else None,
            look,
            show.rest,
        )
        write_program(target, writing, on_progress)
    return made
