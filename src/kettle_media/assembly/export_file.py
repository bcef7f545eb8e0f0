"""An assembly's program handed over as a file of a kind, size and loudness, checked."""

import hashlib
from collections.abc import Callable, Iterator, Mapping
from contextlib import closing, suppress
from dataclasses import dataclass, replace
from pathlib import Path

from kettle_core.assembly.chapters import Chapter, as_webvtt
from kettle_core.assembly.cut_list import CutList
from kettle_core.assembly.excerpt import excerpt
from kettle_core.assembly.export import (
    MOVING,
    Aim,
    Export,
    first_aim,
    next_aim,
    picture_settings,
    sound_format,
)
from kettle_core.assembly.export_costs import loudness_share
from kettle_core.errors import CutError
from kettle_core.picture.picture import Plane
from kettle_core.program.plan import Plan
from kettle_core.rig.devices import Mode
from kettle_core.rig.format import Format
from kettle_core.sound.levels import Sound
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.assembly.check_export import check_export
from kettle_media.assembly.export_moving import write_frames, write_moving
from kettle_media.assembly.export_sound import write_sound
from kettle_media.assembly.finding import Finding
from kettle_media.assembly.heard import Heard, coded, leveled, measured
from kettle_media.assembly.meant import Meant
from kettle_media.assembly.peek import Peek
from kettle_media.assembly.show import NO_FILES, show_of_assembly
from kettle_media.durable import put_in_place, replace_file
from kettle_media.program.cells import Composed
from kettle_media.program.mix import ProgramMix
from kettle_media.program.program_file import Progress
from kettle_media.program.show import Show
from kettle_media.program.spool import Spool
from kettle_media.program.write_show import write_show
from kettle_media.tags import NO_TAGS, Tags
from kettle_media.take.align import GiveWay, go_on
from kettle_media.take.folder import TakeFolder
from kettle_media.take.sound_track import MASTER_HZ
from kettle_media.told import Told

MOST_TRIES = 6
# A size that hardly grows when more is allowed is as large as quality makes it.
GROWS = 1.02
# As it was, and as it is with the gain that it gets then.
USUAL_MEASURES = 2
# Of their sound, where it is not kept as it is.
CODECS = {
    **{"mp4": "aac", "m4a": "aac", "mp3": "libmp3lame"},
    **dict.fromkeys(("webm", "av1"), "libopus"),
}
CONTAINERS = {"mp4": "mp4", "webm": "webm", "av1": "webm"}


@dataclass(frozen=True)
class Exported:
    """What came of an export: its size, how often it was encoded, its loudness before."""

    frames: int
    length_s: float
    size_bytes: int
    tries: int
    lufs_before: float | None
    findings: tuple[Finding, ...]


def export(
    takes: Mapping[str, TakeFolder],
    cuts: CutList,
    program: Format,
    order: Export,
    target: Path,
    on_progress: Progress = lambda done, total: None,
    give_way: GiveWay = go_on,
    tags: Tags = NO_TAGS,
    files: Path = NO_FILES,
    picture: Path | None = None,
) -> Exported:
    """Make a file of a cut list.

    Parameters
    ----------
    takes : folders by their takes' UUIDs
    program : the program's format, whose shape and rate are kept
    order : what is to be made
    target : replaced only when the new file is whole and was checked; chapters lie beside it
    tags : what the file says of itself
    files : the folder in which added files lie
    picture : where a small JPEG of what is encoded just now is put, again and again

    Notes
    -----
    An end of the process leaves a spool beside the target, from which the next one goes on; any
    other end leaves nothing.

    Raises
    ------
    CutError
        If it can't be made as it is wanted: too small a size, a file that is not as it should be.
    TakeError
        If something can't be read or written; nothing is left then.
    """
    for path in (target, chapters_beside(target)):
        if path.is_dir():
            raise CutError(f"{path.name} is a folder. Choose another name.", "out")
    part = target.with_name(f".{target.stem}.part{target.suffix}")
    format_, crop = order.format(program), order.crop(program)
    cuts = excerpt(cuts, program.fps, order.from_ms * 10**6, order.until_ms * 10**6)
    with closing(show_of_assembly(takes, cuts, format_, False, give_way, files, crop)) as show:
        spool, peek = Spool(spool_beside(target)), Peek(picture) if picture else None
        work = _Work(show, order, part, on_progress, give_way, tags, spool, peek)
        try:
            tries = work.make()
            findings = check_export(part, work.show, order, work.lufs, work.frames, work.meant)
            bad = [found.words for found in findings if not found.good]
            if bad:
                raise CutError(f"The file is not as it should be: {' '.join(bad)}", "out")
            size = part.stat().st_size
            with Told(target, True, "{} cannot be written"):
                _put_in_place(part, target, work.show)
            spool.remove()
        except Exception:
            spool.remove()
            raise
        finally:
            spool.close()
            if peek:
                peek.close()
            with suppress(OSError):
                part.unlink(missing_ok=True)
        plan = work.show.plan
        length_s = float(plan.frames / plan.fps)
        return Exported(work.frames, length_s, size, tries, work.lufs_before, tuple(findings))


def _put_in_place(part: Path, target: Path, show: Show) -> None:
    """The file and its chapters in the place of what was there, or all as it was."""
    beside, plan = chapters_beside(target), show.plan
    fresh = target.with_name(f".{target.name}.part.vtt")
    try:
        if show.chapters:
            found = [Chapter(at_ns, title) for at_ns, title in show.chapters]
            length_ns = round(plan.frames * NS_PER_S / plan.fps)
            replace_file(fresh, as_webvtt(found, length_ns).encode())
        put_in_place(part, target)
        if show.chapters:
            put_in_place(fresh, beside)
        else:
            beside.unlink(missing_ok=True)
    finally:
        fresh.unlink(missing_ok=True)


def chapters_beside(target: Path) -> Path:
    """The file beside an export that has its chapters: its own, whatever else has its stem."""
    return target.with_name(f"{target.name}.chapters.vtt")


def spool_beside(target: Path) -> Path:
    """The file beside an export that is made, from which it goes on after an interruption."""
    return target.with_name(f".{target.name}.spool")


class _Work:
    """One export on its way: measured, encoded, encoded again where its size asks for it."""

    def __init__(
        self,
        show: Show,
        order: Export,
        part: Path,
        tell: Progress,
        give_way: Callable[[], None],
        tags: Tags,
        spool: Spool,
        peek: Peek | None,
    ) -> None:
        # Stems are a take's.
        self.show = replace(show, plan=replace(show.plan, stems=()))
        self._order, self._part, self._tell, self._give_way = order, part, tell, give_way
        self._done, self._tags, self._spool, self._peek = 0, tags, spool, peek
        # Of the mix as it was, and as it is written; None where it is left alone.
        self.lufs_before: float | None = None
        self.lufs: float | None = None
        self.meant = Meant(show.plan)
        # As many frames as the file is to have.
        self.frames = show.plan.frames
        plan = show.plan
        self._mode = Mode(*plan.frame_size, plan.fps)
        self._length_s = float(plan.frames / plan.fps)
        # Frames that measuring once counts for, and those that are still to be counted so.
        self._measure = loudness_share(order, self._mode) * plan.frames
        measures = USUAL_MEASURES if order.lufs is not None else 1 if order.kind in CODECS else 0
        self._measures_left = measures * self._measure

    def make(self) -> int:
        """Write the file; gives how often it was encoded."""
        order, plan = self._order, self.show.plan
        if order.kind in MOVING:
            self.frames, tries = write_moving(self.show, self._part, order, self._told)
            return tries
        if order.kind == "png":
            write_frames(self.show, self._part, self._told)
            return 1
        aim = first_aim(order, self._mode, self._length_s) if self._is_sized else None
        self._level(aim)
        self._measures_left = 0.0
        sizes: list[tuple[float, int]] = []
        fitting: list[tuple[int, Aim]] = []
        while True:
            name = self._name(aim)
            known = self._spool.tried(name)
            if known is None:
                self._encode(aim, plan.frames)
            size = known or self._part.stat().st_size
            if aim is None:
                return 1
            sizes.append((aim.kbps, size))
            following = next_aim(order, aim, self._mode, self._length_s, size)
            fits = size <= order.max_mb * 1e6
            fitting += [(size, aim)] if fits else []
            if following is None or (fits and self._quality_ends(sizes)):
                return len(sizes)
            if len(sizes) >= MOST_TRIES:
                best = max(fitting, key=lambda f: f[0], default=None)
                if best == (size, aim):
                    return len(sizes)
                if best:
                    # No size lies nearer; the best of them is made once more.
                    self._encode(best[1], plan.frames)
                    return len(sizes) + 1
                raise CutError(
                    f"After {MOST_TRIES} tries it is still {size / 1e6:.1f} MB. Allow more, or "
                    "choose fewer lines.",
                    "max_mb",
                )
            if known is None:
                self._spool.note(name, size)
            aim = following

    def _name(self, aim: Aim | None) -> str:
        """Says all that a try hangs on."""
        show = self.show
        text = repr((aim, self._order, show.plan, sorted(map(repr, show.identities().items()))))
        return hashlib.sha256(text.encode()).hexdigest()[:32]

    @property
    def _is_sized(self) -> bool:
        return bool(self._order.max_mb) and self._order.has_picture

    @staticmethod
    def _quality_ends(sizes: list[tuple[float, int]]) -> bool:
        """Whether more bits were allowed last, and hardly more were used."""
        if len(sizes) < 2:
            return False
        (kbps, size), (more_kbps, more) = sizes[-2:]
        return more_kbps > kbps and more < GROWS * size

    def _level(self, aim: Aim | None) -> None:
        """Bring the whole to a loudness, as near as its own allows, and its peaks under theirs."""
        order = self._order
        codec = CODECS.get(order.kind, "")
        kbps = aim.sound_kbps if aim else order.sound_kbps
        if order.lufs is None and not codec:
            return
        beside = self._part.with_name(f"{self._part.name}.heard")

        def measure(plan: Plan) -> Heard:
            blocks = self._blocks(plan)
            return measured(coded(blocks, codec, kbps, beside) if codec else blocks)

        plan, before, now = leveled(self.show.plan, order.lufs, measure)
        self.show = replace(self.show, plan=plan)
        self.lufs_before, self.lufs = before.lufs, now.lufs

    def _blocks(self, plan: Plan) -> Iterator[Sound]:
        """The mix of a plan, a second at a time."""
        mix = ProgramMix(plan, self.show.sounds.read)
        for first in range(0, plan.samples, MASTER_HZ):
            self._give_way()
            yield mix.read(min(MASTER_HZ, plan.samples - first))
            done = self._done + (first / plan.samples) * self._measure
            self._tell(round(done), self._total())
        yield mix.flush()
        self._done += round(self._measure)
        self._measures_left = max(0.0, self._measures_left - self._measure)

    def _total(self, tries: int = 1) -> int:
        frames = self.show.plan.frames
        return max(1, round(self._done + self._measures_left + tries * frames))

    def _look(self, number: int, buffer: Plane) -> None:
        self.meant.look(number, buffer)
        if self._peek:
            self._peek.look(buffer)

    def _told(self, done: int, total: int) -> None:
        self._give_way()
        self._tell(done, total)

    def _encode(self, aim: Aim | None, frames: int) -> None:
        order, begun = self._order, self._done
        total = self._total()

        def tell(done: int, _: int) -> None:
            self._give_way()
            self._tell(begun + done, total)

        if order.has_picture:
            write_show(
                self.show,
                self._part,
                sound_format(order, aim),
                Composed(self._part),
                tell,
                picture=picture_settings(order, aim, self._mode),
                container=CONTAINERS[order.kind],
                tags=self._tags,
                spool=self._spool,
                look=self._look,
                listen=self.meant.sounds.take,
            )
        else:
            write_sound(self.show, self._part, order, tell, self._tags, self.meant.sounds.take)
        self._done += frames
