"""What is done with takes of the library: named, laid elsewhere, tagged, deleted; and undone."""

import os
import shutil
import time
from collections.abc import Callable, Iterable
from contextlib import suppress
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Any
from uuid import uuid4

from django.conf import settings
from django.db import IntegrityError, transaction
from django.utils import timezone

from kettle_core.errors import TakeError
from kettle_core.program.cues import Mark, Step
from kettle_media.roots import root_paths
from kettle_media.take.afterwards import cues_now
from kettle_media.take.folder import TakeFolder
from kettle_web.frame.editing import forget
from kettle_web.jobs.services import SOON, order
from kettle_web.library.search import forget_take, index_take
from kettle_web.models import Folder, Rearranged, Rig, Take, Tutorial

FIELDS = ("name", "tutorial_id", "kept_in_id", "tags", "deleted_at")
MOST_KEPT = 200
DEEPEST = 12
GONE = ".gone-"
Rows = dict[str, dict[str, Any]]


def rename_take(*, take: Take, name: str) -> None:
    """Call a take something else."""
    _arrange([take], f"“{take.name}” renamed", lambda one: setattr(one, "name", name))


def move_to_folder(*, takes: Iterable[Take], folder: Folder | None) -> None:
    """Lay takes into a folder, or out of all."""
    words = f"moved to “{folder.name}”" if folder else "taken out of their folder"
    found = list(takes)
    _arrange(found, f"{counted(found)} {words}", lambda one: setattr(one, "kept_in", folder))


def move_to_tutorial(*, takes: Iterable[Take], tutorial: Tutorial) -> None:
    """Have takes belong to another tutorial."""
    found = list(takes)
    words = f"{counted(found)} moved to “{tutorial.name}”"
    _arrange(found, words, lambda one: setattr(one, "tutorial", tutorial))


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
    _arrange(found, f"{counted(found)} {words}", change)


def delete_takes(*, takes: Iterable[Take]) -> None:
    """Take takes out of sight. Raises TakeError if one is being recorded."""
    found = list(takes)
    now = timezone.now()
    for one in found:
        if one.state == Take.State.RECORDING:
            raise TakeError("This take is being recorded, so it was not deleted. Stop it first.")
    _arrange(found, f"{counted(found)} deleted", lambda one: setattr(one, "deleted_at", now))


def bring_back(*, takes: Iterable[Take]) -> None:
    """Deleted takes as they were."""
    found = list(takes)
    _arrange(found, f"{counted(found)} brought back", lambda one: setattr(one, "deleted_at", None))


def counted(takes: list[Take]) -> str:
    """Takes in a few words."""
    return f"“{takes[0].name}”" if len(takes) == 1 else f"{len(takes)} takes"


@transaction.atomic
def _arrange(takes: list[Take], words: str, change: Callable[[Take], None]) -> None:
    """Change fields of takes as they are now; what was is kept to be had back."""
    newest = list(Take.with_deleted.select_related("rig", "tutorial").filter(
        pk__in=[take.pk for take in takes]))  # fmt: skip
    before = _rows(newest)
    for take in newest:
        change(take)
    after = _rows(newest)
    changed = {pk: row for pk, row in after.items() if row != before[pk]}
    if not changed:
        return
    for take in newest:
        take.save(update_fields=["name", "tutorial", "kept_in", "tags", "deleted_at"])
        index_words(take)
    Rearranged.objects.filter(undone=True).delete()
    Rearranged.objects.create(
        words=words[:200], before={pk: before[pk] for pk in changed}, after=changed
    )
    oldest = Rearranged.objects.order_by("-pk").values_list("pk", flat=True)[MOST_KEPT:]
    Rearranged.objects.filter(pk__in=list(oldest)).delete()


def _rows(takes: Iterable[Take]) -> Rows:
    return {
        str(take.pk): {
            name: value.isoformat() if isinstance(value, datetime) else value
            for name in FIELDS
            for value in [getattr(take, name)]
        }
        for take in takes
    }


@transaction.atomic
def undo(*, again: bool = False) -> str:
    """Take back what was done last with takes, or do it again; gives its words.

    Takes that were changed otherwise since, or are gone for good, stay as they are.
    """
    rows = Rearranged.objects.filter(undone=again)
    found = rows.first() if again else rows.last()
    if found is None:
        return ""
    was, then = (found.before, found.after) if again else (found.after, found.before)
    now = _rows(Take.with_deleted.filter(pk__in=list(was)))
    for pk, row in then.items():
        if now.get(pk) != was[pk]:
            continue
        values = {
            **row,
            "deleted_at": row["deleted_at"] and datetime.fromisoformat(row["deleted_at"]),
        }
        with suppress(IntegrityError), transaction.atomic():
            Take.with_deleted.filter(pk=pk).update(**_still_there(values))
        index_words(Take.with_deleted.select_related("rig", "tutorial").get(pk=pk))
    found.undone = not again
    found.save(update_fields=["undone"])
    return found.words


def _still_there(values: dict[str, Any]) -> dict[str, Any]:
    """Without a folder or a tutorial that is gone by now."""
    if values["kept_in_id"] and not Folder.objects.filter(pk=values["kept_in_id"]).exists():
        values["kept_in_id"] = None
    if not Tutorial.objects.filter(pk=values["tutorial_id"]).exists():
        del values["tutorial_id"]
    return values


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


def new_folder(*, name: str, parent: Folder | None) -> Folder:
    """A folder of the library. Raises TakeError if there is one of that name already."""
    depth, above = 0, parent
    while above:
        depth, above = depth + 1, above.parent
    if depth >= DEEPEST:
        raise TakeError(f"Folders lie in each other {DEEPEST} deep at most.")
    try:
        with transaction.atomic():
            return Folder.objects.create(name=name, parent=parent)
    except IntegrityError as error:
        raise TakeError(f"There is a folder “{name}” here already. Choose another name.") from error


def delete_folder(*, folder: Folder) -> None:
    """Take a folder away with those in it; takes in them stay and lie in none."""
    folder.delete()


def empty_bin() -> tuple[int, int]:
    """Delete for good what was deleted; gives how many takes, and their bytes.

    Their folders are out of the way at once and are removed in the background.
    """
    takes = list(Take.with_deleted.exclude(deleted_at=None))
    for take in takes:
        with suppress(FileNotFoundError):
            take.path.rename(take.path.with_name(f"{GONE}{take.folder}-{time.monotonic_ns()}"))
        forget(take)
        for rig in Rig.with_deleted.filter(of_take=take):
            forget(rig)
        forget_take(take.pk)
        take.delete()
    if takes:
        order(kind="empty-bin", queue=SOON, subject="bin", title="Deleted takes are removed")
    return len(takes), sum(take.size_bytes for take in takes)


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
    made.revision = 1
    made.save()
    index_words(made)
    return made


def _linked(source: str, target: str) -> None:
    """Tracks and what is made of them are replaced, never written to: one file serves both."""
    if Path(source).suffix in (".mkv", ".mp4", ".flac", ".wav", ".jpg", ".png", ".levels"):
        with suppress(OSError):
            os.link(source, target)
            return
    shutil.copy2(source, target)


def remove_gone() -> None:
    """Remove the folders of takes that were deleted for good."""
    for path in root_paths(settings.TAKES).values():
        for gone in path.glob(f"{GONE}*"):
            shutil.rmtree(gone, ignore_errors=True)
