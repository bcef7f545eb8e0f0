"""The bin: what was deleted lies in it, whole, with its files, until it is emptied."""

import shutil
import time
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from itertools import chain
from typing import Any

from django.conf import settings
from django.core.paginator import Page, Paginator
from django.db import IntegrityError, transaction
from django.db.models import QuerySet
from django.http import QueryDict

from kettle_core.errors import TakeError
from kettle_media.roots import root_paths
from kettle_web.frame.history import arrange, forget, row_of
from kettle_web.jobs.services import SOON, order
from kettle_web.library.numbers import keep_numbers
from kettle_web.library.search import forget_take
from kettle_web.models import Deletable, Export, Folder, Rig, Take, Undoable, Version

A_PAGE = 60
MOST_WORDS = 200
GONE = ".gone-"
KINDS: tuple[tuple[type[Any], str], ...] = (
    (Take, "take"),
    (Rig, "rig"),
    (Version, "version"),
    (Export, "file"),
    (Folder, "folder"),
)


@dataclass(frozen=True)
class Deleted:
    """Something in the bin."""

    row: Undoable
    kind: str
    name: str
    of: str
    size_bytes: int
    deleted_at: datetime

    @property
    def words(self) -> str:
        """What it is found by."""
        return f"{self.name} {self.kind} {self.of}".casefold()


@dataclass(frozen=True)
class Bin:
    """The bin as a page shows it: what is found in it, and what emptying it would delete."""

    rows: Page[Deleted]
    q: str
    count: int
    size_bytes: int
    counted: str
    until: str


def bin_page(asked: QueryDict) -> Bin:
    """What was deleted, the newest first; what makes no sense counts as not asked."""
    everything = _deleted()
    q = asked.get("q", "").strip()[:MOST_WORDS]
    words = q.casefold().split()
    found = [d for d in everything if all(w in d.words for w in words)]
    size_bytes = sum(deleted.size_bytes for deleted in everything)
    until = everything[0].deleted_at.isoformat() if everything else ""
    rows = Paginator(found, A_PAGE).get_page(asked.get("page"))
    return Bin(rows, q, len(everything), size_bytes, counted(everything), until)


def counted(rows: Sequence[Deleted]) -> str:
    """How much of what: "2 takes and 1 rig"."""
    found = []
    for _, kind in KINDS:
        number = sum(row.kind == kind for row in rows)
        if number:
            found.append(f"{number} {kind}{'s' if number > 1 else ''}")
    return " and ".join([", ".join(found[:-1]), found[-1]] if len(found) > 1 else found)


def in_bin() -> int:
    """How many things lie in the bin."""
    first, *others = (_rows(kind).order_by().values("deleted_at") for kind, _ in KINDS)
    return first.union(*others, all=True).count()


def _rows(kind: type[Any]) -> QuerySet[Any]:
    """What was deleted of a kind; what goes and comes back with something else is not listed."""
    rows = kind._base_manager.exclude(deleted_at=None)
    if kind is Rig:
        return rows.filter(of_take=None)
    if kind is Export:
        return rows.filter(version__deleted_at=None)
    return rows


def _deleted() -> list[Deleted]:
    takes = [
        Deleted(t, "take", t.name, t.tutorial.name, t.size_bytes, t.deleted_at)
        for t in _rows(Take).select_related("tutorial")
    ]
    rigs = [Deleted(r, "rig", r.name, "", 0, r.deleted_at) for r in _rows(Rig).defer("document")]
    versions = [
        Deleted(v, "version", v.name, v.tutorial.name, _size(_exports_of(v)), v.deleted_at)
        for v in _rows(Version).select_related("tutorial").defer("document")
    ]
    files = [
        Deleted(e, "file", e.file, e.version.tutorial.name, _size([e]), e.deleted_at)
        for e in _rows(Export).select_related("version__tutorial").defer("document")
    ]
    folders = [Deleted(f, "folder", f.name, "", 0, f.deleted_at) for f in _rows(Folder)]
    found = chain(takes, rigs, versions, files, folders)
    return sorted(found, key=lambda deleted: deleted.deleted_at, reverse=True)


def _exports_of(version: Version) -> Sequence[Export]:
    return list(Export.with_deleted.filter(version=version))


def _size(exports: Sequence[Export]) -> int:
    return sum(e.path.stat().st_size for e in exports if e.path.is_file())


def bring_back(*, key: str) -> str:
    """Something as it was before it was deleted; gives its name.

    Raises
    ------
    TakeError
        If it went for good meanwhile, or another one has its name by now.
    """
    row = row_of(key) if key.partition(":")[0] in {kind.KIND for kind, _ in KINDS} else None
    if not isinstance(row, Deletable):
        raise TakeError("The bin was emptied meanwhile, so this is gone for good.")
    rows: list[Any] = [row]
    while isinstance(rows[-1], Folder) and rows[-1].parent and rows[-1].parent.deleted_at:
        rows.append(rows[-1].parent)
    try:
        arrange(rows, f"“{row}” brought back", lambda one: setattr(one, "deleted_at", None))
    except IntegrityError as error:
        raise TakeError(
            f"There is another “{row}” by now, so nothing was brought back. Rename that one first."
        ) from error
    return str(row)


def empty_bin(*, until: datetime) -> str:
    """Delete for good what was deleted by a time; gives how much that was, in words.

    Folders of takes are out of the way at once and are removed in the background.
    """
    rows = [deleted for deleted in _deleted() if deleted.deleted_at <= until]
    told = counted(rows)
    for deleted in rows:
        with transaction.atomic():
            # As it is now: it may have been brought back, and its files are told by all of it.
            row: Any = row_of(deleted.row.key)
            if row and row.deleted_at:
                _delete(row)
    if any(deleted.kind == "take" for deleted in rows):
        order(kind="empty-bin", queue=SOON, subject="bin", title="Deleted takes are removed")
    return told


def _delete(row: Any) -> None:
    """Delete a row for good, with its history; its files follow it."""
    if isinstance(row, Take):
        keep_numbers([row])
        for rig in Rig.with_deleted.filter(of_take=row):
            forget(rig)
        forget_take(row.pk)
        with suppress(FileNotFoundError):
            row.path.rename(row.path.with_name(f"{GONE}{row.folder}-{time.monotonic_ns()}"))
    if isinstance(row, Version):
        for export in _exports_of(row):
            forget(export)
    forget(row)
    row.delete()


def remove_gone() -> None:
    """Remove the folders of takes that were deleted for good."""
    for path in root_paths(settings.TAKES).values():
        for gone in path.glob(f"{GONE}*"):
            shutil.rmtree(gone, ignore_errors=True)
