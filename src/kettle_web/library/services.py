"""What is done with takes of the library: named, laid elsewhere, tagged, deleted; and undone."""

import os
import shutil
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Any
from uuid import uuid4

from django.dispatch import receiver
from django.utils import timezone

from kettle_core.errors import TakeError
from kettle_core.program.cues import Mark, Step
from kettle_media.take.afterwards import cues_now
from kettle_media.take.folder import TakeFolder
from kettle_web.frame.editing import document_changed
from kettle_web.frame.history import arrange, arranged, changes_of_library, take_back
from kettle_web.library.numbers import keep_numbers, next_number
from kettle_web.library.search import index_again, index_take
from kettle_web.models import Folder, Rig, Take, Tutorial


def rename_take(*, take: Take, name: str) -> None:
    """Call a take something else."""
    arrange([take], f"“{take.name}” renamed", lambda one: setattr(one, "name", name))


def move_to_folder(*, takes: Iterable[Take], folder: Folder | None) -> None:
    """Lay takes into a folder, or out of all."""
    words = f"moved to “{folder.name}”" if folder else "taken out of their folder"
    found = list(takes)
    arrange(found, f"{counted(found)} {words}", lambda one: setattr(one, "kept_in", folder))


def move_to_tutorial(*, takes: Iterable[Take], tutorial: Tutorial) -> None:
    """Have takes belong to another tutorial."""
    found = list(takes)
    keep_numbers(found)
    words = f"{counted(found)} moved to “{tutorial.name}”"
    arrange(found, words, lambda one: setattr(one, "tutorial", tutorial))


def tag_takes(*, takes: Iterable[Take], tag: str, off: bool = False) -> None:
    """Give takes a tag, or take it off."""

    def change(one: Take) -> None:
        others = [t for t in one.tag_list if t.casefold() != tag.casefold()]
        tags = others if off else [*others, tag]
        text = f"|{'|'.join(tags)}|" if tags else ""
        if len(text) > Take._meta.get_field("tags").max_length:  # type: ignore[operator]
            raise TakeError(f"“{one.name}” has too many tags for one more. Take some off.")
        one.tags = text

    found = list(takes)
    words = f"tag “{tag}” taken off" if off else f"tagged “{tag}”"
    arrange(found, f"{counted(found)} {words}", change)


def delete_takes(*, takes: Iterable[Take]) -> None:
    """Take takes out of sight. Raises TakeError if one is being recorded."""
    found = list(takes)
    now = timezone.now()
    for one in found:
        if one.state == Take.State.RECORDING:
            raise TakeError("This take is being recorded, so it was not deleted. Stop it first.")
    arrange(found, f"{counted(found)} deleted", lambda one: setattr(one, "deleted_at", now))


def counted(takes: list[Take]) -> str:
    """Takes in a few words."""
    return f"“{takes[0].name}”" if len(takes) == 1 else f"{len(takes)} takes"


def undo(*, again: bool = False, of: int | None = None) -> str:
    """Take back what was done last with rows, or do it again; gives its words.

    Rows with which something else was done since, or that are gone for good, stay as they are.
    """
    return take_back(changes_of_library(), again, of)


@receiver(arranged, sender=Take)
def _index_again(rows: list[Take], **_: Any) -> None:
    """Have takes found by what they are called by now."""
    for take in rows:
        index_words(take)


@receiver(document_changed, sender=Tutorial)
@receiver(document_changed, sender=Rig)
def _index_those_of(row: Tutorial | Rig, **_: Any) -> None:
    """Have takes found by what their tutorial or their rig is called by now."""
    related = Take.with_deleted.select_related("tutorial", "rig")
    index_again(related.filter(**{row.KIND: row.pk}))


def index_words(take: Take) -> None:
    """Have a take found by what is said of it and in it."""
    with suppress(TakeError, OSError):
        index_take(take, words_in(TakeFolder(take.path)))
        return
    index_take(take)


def words_in(folder: TakeFolder) -> str:
    """Marks, steps and notes of a take. Raises TakeError if it can't be read."""
    cues, _ = cues_now(folder)
    said = [c.text if isinstance(c, Mark) else c.step for c in cues if isinstance(c, Mark | Step)]
    return " ".join([*said, *folder.read_info().notes])


def duplicate_take(*, take: Take) -> Take:
    """A second take of the same recording, to be changed by itself.

    Tracks are the same files on the disk, as they are never written again. Raises TakeError.
    """
    if take.state == Take.State.RECORDING:
        raise TakeError("This take is being recorded, so it can't be duplicated yet.")
    number, root = 2, take.path.parent
    while (root / f"{take.folder}-copy-{number}").exists():
        number += 1
    target = root / f"{take.folder}-copy-{number}"
    part = root / f".{target.name}.part"
    shutil.rmtree(part, ignore_errors=True)
    try:
        shutil.copytree(take.path, part, copy_function=_linked)
        folder = TakeFolder(part)
        info = folder.read_info()
        folder.write_info(replace(info, id=str(uuid4())))
        part.rename(target)
    except (OSError, shutil.Error) as error:
        shutil.rmtree(part, ignore_errors=True)
        raise TakeError(f"“{take.name}” could not be duplicated: {error}.") from error
    made = Take.with_deleted.get(pk=take.pk)
    made.pk, made._state.adding = None, True
    made.folder, made.name = target.name, f"{take.name} (copy)"[:200]
    made.number = next_number(take.tutorial)
    made.revision = 1
    made.save(force_insert=True)
    index_words(made)
    return made


def _linked(source: str, target: str) -> None:
    """Tracks and what is made of them are replaced, never written to: one file serves both."""
    if Path(source).suffix in (".mkv", ".mp4", ".flac", ".wav", ".jpg", ".png", ".levels"):
        with suppress(OSError):
            os.link(source, target)
            return
    shutil.copy2(source, target)
