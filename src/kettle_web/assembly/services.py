"""Versions of a tutorial: its takes in order, cut; read from files, written for other programs."""

from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property
from pathlib import Path

from kettle_core.assembly.cut_list import CutList, Known, checked, with_take
from kettle_core.errors import CutError, KettleError
from kettle_core.rig.format import Format
from kettle_core.timing.time_map import Source
from kettle_media.assembly.cut_file import CUTS, read_cuts
from kettle_media.assembly.timeline_file import (
    SUFFIXES,
    TakeMedia,
    read_timeline,
    write_timeline,
)
from kettle_media.durable import replace_file
from kettle_media.take.afterwards import follow_cues
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import RECORDING, TakeInfo
from kettle_media.take.rig_now import rig_now
from kettle_media.told import Told
from kettle_web.frame.editing import edit
from kettle_web.models import Tutorial, Version


@dataclass(frozen=True)
class TakeOf:
    """A take of a tutorial that pieces can be of."""

    name: str
    folder: TakeFolder
    info: TakeInfo

    @cached_property
    def length_ns(self) -> int:
        """How long it is, pauses closed."""
        said = follow_cues(self.folder, rig_now(self.folder, self.info)[0])
        take = Source("take", self.info.id)
        return int(said.take_time(take, self.info.duration_ns or 0).length_ns)


class Material:
    """What a tutorial's cut lists are made of: its takes that can be read, by their UUIDs."""

    def __init__(self, tutorial: Tutorial) -> None:
        self.takes: dict[str, TakeOf] = {}
        for row in tutorial.takes.filter(deleted_at=None).order_by("recorded_at", "pk"):
            folder = TakeFolder(row.path)
            try:
                info = folder.read_info()
            except KettleError:
                continue
            if info.state != RECORDING:
                self.takes[info.id] = TakeOf(row.name, folder, info)

    @property
    def folders(self) -> dict[str, TakeFolder]:
        """The takes' folders."""
        return {take: found.folder for take, found in self.takes.items()}

    @property
    def format(self) -> Format:
        """The program's: that of the first take. Raises CutError where there is none."""
        first = next(iter(self.takes.values()), None)
        if first is None:
            raise CutError("This tutorial has no take yet. Record one first.", "takes")
        return first.info.rig_values.format

    def known(self) -> Known:
        """What a cut list may name."""
        fps = self.format.fps if self.takes else Fraction(30)
        return Known({take: found.length_ns for take, found in self.takes.items()}, fps)

    def media(self) -> dict[str, TakeMedia]:
        """The takes as other programs find them, by paths from the takes' folder on."""
        return {
            take: TakeMedia(found.name, _program_of(found.folder), found.length_ns)
            for take, found in self.takes.items()
        }


def _program_of(folder: TakeFolder) -> str:
    return f"takes/{folder.path.name}/{folder.program_path.name}"


def tutorial_called(wanted: str) -> Tutorial:
    """A tutorial by its number or its name, whatever its case. Raises CutError."""
    found = Tutorial.objects.filter(name__iexact=wanted)
    if not found and wanted.isascii() and wanted.isdecimal():
        found = Tutorial.objects.filter(pk=int(wanted[:9]))
    if len(found) == 1:
        return found[0]
    if found:
        numbers = ", ".join(str(one.pk) for one in found)
        raise CutError(f"Several tutorials are called “{wanted}”. Use the number: {numbers}.")
    names = ", ".join(f"“{name}”" for name in Tutorial.objects.values_list("name", flat=True)[:20])
    raise CutError(f"There is no tutorial “{wanted}”. There are: {names or 'none'}.")


def version_of(tutorial: Tutorial, material: Material, name: str = "") -> Version:
    """A version by its name, or the first one, which has all takes until it is changed.

    Raises CutError.
    """
    versions = tutorial.versions.all()
    if name:
        found = next((v for v in versions if v.name.casefold() == name.casefold()), None)
        if found is None:
            names = ", ".join(f"“{v.name}”" for v in versions)
            raise CutError(
                f"There is no version “{name}”. There are: {names or 'none'}.", "version"
            )
        return found
    first = versions.first()
    if first and first.revision > 1:
        return first
    known, cuts = material.known(), CutList()
    for take in material.takes:
        cuts = with_take(cuts, known, take)
    whole = {"document": Version().write(cuts)}
    if first is None:
        first, _ = Version.objects.get_or_create(
            tutorial=tutorial, name=Version.FIRST, defaults=whole
        )
    elif first.values != cuts:
        # Somebody who changes it meanwhile has it as it was.
        Version.objects.filter(pk=first.pk, revision=1).update(**whole)
        first.refresh_from_db()
    return first


def read_cut_file(material: Material, path: Path) -> CutList:
    """A cut list of a file, .json or .otio. Raises CutError."""
    if path.suffix.lower() == ".otio":
        return read_timeline(path, material.known().fps, material.media())
    if path.suffix.lower() != ".json":
        raise CutError(f"Cut lists are read from .json and .otio files, not “{path.name}”.", "cuts")
    return checked(read_cuts(path), material.known())


def write_cut_file(version: Version, material: Material, path: Path) -> None:
    """A version as .json, .otio or .edl. Raises CutError, TakeError."""
    if path.suffix.lower() in SUFFIXES:
        name = f"{version.tutorial.name}, {version.name}"
        write_timeline(path, version.values, material.known().fps, material.media(), name)
        return
    if path.suffix.lower() != ".json":
        kinds = ", ".join([".json", *SUFFIXES])
        raise CutError(f"Cut lists are written as {kinds}, not “{path.name}”.", "out")
    with Told(path, True, "{} cannot be written"):
        replace_file(path, CUTS.write(version.values).encode())


def take_over(*, version: Version, cuts: CutList, words: str) -> None:
    """Have a version with another cut list; undo brings the one before back."""
    edit(version, lambda _now: (cuts, words))
