"""Versions of a tutorial: its takes in order, cut; read from files, written for other programs."""

import json
import re
import zlib
from pathlib import Path
from typing import Any, BinaryIO

from django.db.models import QuerySet
from django.db.models.signals import post_save
from django.dispatch import receiver
from django.utils import timezone

from kettle_core.assembly.cut_list import AddedFile, CutList, Piece, checked
from kettle_core.errors import CutError
from kettle_core.fields import DIGEST_PATTERN
from kettle_media.assembly.added_file import remove_unused, take_in
from kettle_media.assembly.cut_file import CUTS, read_cuts
from kettle_media.assembly.timeline_file import SUFFIXES, read_timeline, write_timeline
from kettle_media.durable import replace_file
from kettle_media.told import Told
from kettle_web.assembly.material import Material
from kettle_web.frame.editing import edit
from kettle_web.frame.history import arrange
from kettle_web.models import ChangedRow, Export, Tutorial, Version

DIGEST = re.compile(DIGEST_PATTERN)


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
    if first is None:
        raise CutError("This tutorial has no version. Bring one back from the bin.", "version")
    return as_now(first, material)


def as_now(version: Version, material: Material) -> Version:
    """A version as it is now: until it is changed it has all takes, also those that came since.

    Nothing is written.
    """
    if version.revision == 1:
        version.document = version.write(whole_takes(material))
    return version


def keep_whole(version: Version, material: Material) -> None:
    """Have what is changed begin as it was shown. Who changed it meanwhile has it as it was."""
    document = as_now(version, material).document
    Version.objects.filter(pk=version.pk, revision=1).update(document=document)


@receiver(post_save, sender=Tutorial)
def _make_first_version(instance: Tutorial, created: bool, **_: Any) -> None:
    """A tutorial has a version from the beginning, so that looking at it makes none."""
    if created:
        Version.objects.create(tutorial=instance)


def whole_takes(material: Material) -> CutList:
    """All takes, whole, in the order in which they were recorded."""
    known = material.known()
    pieces = (
        Piece(f"p{number}", take, 0, known.takes[take])
        for number, take in enumerate(material.own, 1)
    )
    return checked(CutList(tuple(pieces)), known)


def another_version(*, version: Version, name: str) -> Version:
    """A version that begins as this one is. Raises CutError where the name is taken."""
    _check_name(version.tutorial, name)
    return Version.objects.create(
        tutorial=version.tutorial, name=name, document=version.document, revision=2
    )


def rename_version(*, version: Version, name: str) -> None:
    """Call it otherwise. Raises CutError where the name is taken."""
    if name != version.name:
        _check_name(version.tutorial, name, version)
        words = f"version “{version.name}” renamed"
        arrange([version], words, lambda one: setattr(one, "name", name))


def delete_version(*, version: Version) -> None:
    """Lay it into the bin with its files. Raises CutError if it is the only one."""
    if version.tutorial.versions.count() < 2:
        raise CutError("This is the only version, so it stays. Make another one first.", "version")
    now = timezone.now()
    words = f"version “{version.name}” deleted"
    arrange([version], words, lambda one: setattr(one, "deleted_at", now))


def beside(version: Version) -> QuerySet[Version]:
    """The tutorial's other versions, also those in the bin."""
    return Version.with_deleted.filter(tutorial=version.tutorial_id).exclude(pk=version.pk)


def _check_name(tutorial: Tutorial, name: str, but: Version | None = None) -> None:
    others = (other for other in tutorial.versions.all() if other != but)
    if any(other.name.casefold() == name.casefold() for other in others):
        raise CutError(f"There is a version “{name}” already. Choose another name.", "name")


def keep_file(folder: Path, file: BinaryIO, name: str) -> AddedFile:
    """Take a file in; old ones that no version, undo or export needs any more go.

    Raises CutError, TakeError.
    """
    remove_unused(folder, _used_files())
    return take_in(file, name, folder)


def _used_files() -> set[str]:
    """The digests that stand in versions, in what undo brings back, and in exports."""
    models = (Version, Export)
    now = (d for m in models for d in m._base_manager.values_list("document", flat=True))
    texts = [json.dumps(document) for document in now]
    rows = ChangedRow.objects.filter(row__startswith=f"{Version.KIND}:")
    before = rows.values_list("zipped", flat=True)
    texts += [zlib.decompress(zipped).decode() for zipped in before]
    return {digest for text in texts for digest in DIGEST.findall(text)}


def read_cut_file(material: Material, path: Path) -> CutList:
    """A cut list of a file, .json or .otio. Raises CutError."""
    if path.suffix.lower() == ".otio":
        return read_timeline(path, material.fps, material.media())
    if path.suffix.lower() != ".json":
        raise CutError(f"Cut lists are read from .json and .otio files, not “{path.name}”.", "cuts")
    return checked(read_cuts(path), material.known())


def write_cut_file(version: Version, material: Material, path: Path) -> None:
    """A version as .json, .otio or .edl. Raises CutError, TakeError."""
    if path.suffix.lower() in SUFFIXES:
        name = f"{version.tutorial.name}, {version.name}"
        write_timeline(path, version.values, material.fps, material.media(), name)
        return
    if path.suffix.lower() != ".json":
        kinds = ", ".join([".json", *SUFFIXES])
        raise CutError(f"Cut lists are written as {kinds}, not “{path.name}”.", "out")
    with Told(path, True, "{} cannot be written"):
        replace_file(path, CUTS.write(version.values).encode())


def take_over(*, version: Version, material: Material, cuts: CutList, words: str) -> None:
    """Have a version with another cut list; undo brings the one before back."""
    keep_whole(version, material)
    edit(version, lambda _now: (cuts, words))
