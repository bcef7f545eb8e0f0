"""What a tutorial's cut lists are made of: its takes, and what is known of them in take time."""

from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import cached_property
from pathlib import Path

from django.conf import settings

from kettle_core.assembly.chapters import Chapter, Steps, chapters
from kettle_core.assembly.cut_list import CutList, Known
from kettle_core.assembly.quiet import Stretch
from kettle_core.assembly.retold import Retold
from kettle_core.errors import CutError, KettleError, TakeError
from kettle_core.program.replay import replay
from kettle_core.rig.format import Format
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.assembly.media import TakeMedia
from kettle_media.assembly.show import opening_of, steps_of
from kettle_media.survey.survey import find_quiet
from kettle_media.tags import Tags
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import RECORDING
from kettle_web.models import Take, Tutorial
from kettle_web.takes.now import TakeNow, take_now

KEEP = "keep"


@dataclass(frozen=True)
class TakeOf:
    """A take of a tutorial that pieces can be of."""

    row: Take
    now: TakeNow

    @property
    def length_ns(self) -> int:
        """How long it is, pauses closed."""
        return int(self.now.take_time.length_ns)

    def quiet(self, below_dbfs: float, for_s: float) -> list[Stretch]:
        """Where nobody speaks, in take time. Raises TakeError where that can't be told."""
        survey = self.now.survey
        if survey is None:
            raise TakeError(f"{self.row.name} has not been looked at yet. Wait a moment.")
        found = find_quiet(self.now.folder, self.now.info, survey, below_dbfs, for_s)
        return _in_ns(self.now.spans(found))

    def told(self, cuts: CutList) -> TakeNow:
        """The take as a version tells it."""
        told = cuts.retold_of(self.now.info.id)
        if told == Retold(told.take):
            return self.now
        cues = told.now(self.now.cues)
        said = replay(self.now.was.rig, cues)
        return replace(self.now, changed=replace(self.now.changed, cues=cues), said=said)

    def steps(self, cuts: CutList) -> Steps:
        """When its steps begin as a version tells them, in take time."""
        return steps_of(self.told(cuts).said, self.now.take_time)

    @property
    def kept(self) -> list[Stretch]:
        """What marks called "keep" say is to be left as it is, in take time."""
        kept = (m for m in self.now.said.marks if m.text.strip().casefold() == KEEP)
        frame_ns = round(NS_PER_S / self.now.was.rig.format.fps)
        return _in_ns(self.now.spans((m.at_ns, m.until_ns or m.at_ns + frame_ns) for m in kept))


class Material:
    """The takes of a tutorial that can be read, by their UUIDs.

    `own` are those that belong to it; `takes` has also those that its versions were cut from and
    that belong to another one by now.
    """

    def __init__(self, tutorial: Tutorial) -> None:
        self.tags = Tags(tutorial.name, tutorial.description)
        rows = Take.objects.select_related("program_job").order_by("recorded_at", "pk")
        self.own = _readable(rows.filter(tutorial=tutorial))
        documents = tutorial.versions.values_list("document", flat=True)
        used = {piece["take"] for document in documents for piece in document["pieces"]}
        elsewhere = rows.filter(uuid__in=used - self.own.keys()) if used - self.own.keys() else ()
        self.takes = {**self.own, **_readable(elsewhere)}

    @property
    def folders(self) -> dict[str, TakeFolder]:
        """The takes' folders."""
        return {take: found.now.folder for take, found in self.takes.items()}

    @property
    def files(self) -> Path:
        """The folder in which files lie that are no takes."""
        return Path(settings.DATA) / "files"

    @property
    def format(self) -> Format:
        """The program's: that of the first take. Raises CutError where there is none."""
        first = next(iter(self.takes.values()), None)
        if first is None:
            raise CutError("This tutorial has no take yet. Record one first.", "takes")
        return first.now.rig_then.format

    @property
    def fps(self) -> Fraction:
        """The program's frame rate."""
        return self.format.fps if self.takes else Fraction(30)

    def known(self) -> Known:
        """What a cut list may name."""
        return self._known

    @cached_property
    def _known(self) -> Known:
        return Known({take: found.length_ns for take, found in self.takes.items()}, self.fps)

    def chapters(self, cuts: CutList) -> tuple[Chapter, ...]:
        """The chapters of a cut list."""
        return chapters(cuts, self.fps, self.steps(cuts), opening_of(cuts))

    def steps(self, cuts: CutList) -> dict[str, Steps]:
        """The steps of all takes as a version tells them."""
        return {take: found.steps(cuts) for take, found in self.takes.items()}

    def media(self) -> dict[str, TakeMedia]:
        """The takes as other programs find them, by paths from the takes' folder on."""
        return {
            take: TakeMedia(found.row.name, _program_of(found.now.folder), found.length_ns)
            for take, found in self.takes.items()
        }


def _readable(rows: Iterable[Take]) -> dict[str, TakeOf]:
    found = {}
    for row in rows:
        with suppress(KettleError):
            now = take_now(row)
            if now.info.state != RECORDING:
                found[now.info.id] = TakeOf(row, now)
    return found


def _program_of(folder: TakeFolder) -> str:
    return f"takes/{folder.path.name}/{folder.program_path.name}"


def _in_ns(spans: list[tuple[float, float]]) -> list[Stretch]:
    return [(round(a * NS_PER_S), round(b * NS_PER_S)) for a, b in spans]
