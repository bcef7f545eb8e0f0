"""Documents are edited: each change is made to the newest values, kept as a revision, undoable.

A change is a function of the newest values, called inside the transaction; whatever it needs from
elsewhere (a form, devices) it brings along, and nothing slow. Two pages that change something at
the same moment are both kept: the second change is made to what the first one left.
"""

import json
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, TypeVar

from django.db import transaction
from django.db.models.functions import Length
from django.dispatch import Signal

from kettle_core.errors import KettleError, RigError
from kettle_web.models import Change, Edited

Values = TypeVar("Values")
# Sent inside the transaction with the `row`: what follows from a change, or keeps it from being
# made by raising a KettleError.
document_changed = Signal()
# About 300 changes of a rig; the newest one can always be undone.
HISTORY_BYTES = 400_000
Made = tuple[Values, str]


class GoneError(RigError):
    """The document was deleted."""

    def __init__(self) -> None:
        super().__init__(
            "This was deleted meanwhile, so nothing was changed. It can be brought back."
        )


class NewerError(RigError):
    """Something newer was done, so what was wanted was not."""


@dataclass(frozen=True)
class History:
    """What can be undone and done again, in words; "" for nothing."""

    revision: int
    undo: str
    redo: str


def edit(row: Edited, change: Callable[[Any], Made[Any]], seen: int | None = None) -> str:
    """Change a document.

    Parameters
    ----------
    row : it gets the newest document and revision
    change : gives the changed values and words for what was done; raises where it can't be done
    seen : the revision that the change was decided on, if that is known

    Returns
    -------
    str
        The words, "" where nothing is different.

    Raises
    ------
    KettleError
        Of the change; where others changed the document since `seen`, it says what they did.
    """
    with transaction.atomic():
        _read_newest(row)
        try:
            values, words = change(row.values)
        except KettleError as error:
            _say_what_came(row, seen, error)
            raise
        before = row.document
        after = row.write(values)
        if after == before:
            return ""
        changes = _changes(row)
        changes.filter(undone=True).delete()
        if not changes.exists():
            _keep(row, before, "")
        row.take_over(after)
        row.save()
        _keep(row, after, words)
        _forget_oldest(row)
        document_changed.send(type(row), row=row)
    return words


def undo(row: Edited, seen: int | None = None, again: bool = False) -> str:
    """Take the newest change back, whoever made it, or do `again` what was; gives its words.

    Raises
    ------
    NewerError
        If something was changed since `seen`; it says what, and nothing is taken back.
    """
    with transaction.atomic():
        _read_newest(row)
        if seen is not None and seen != row.revision:
            newest = history(row)
            would = newest.redo if again else newest.undo
            came = came_since(row, seen)
            raise NewerError(
                f"Meanwhile {came or 'something'} was changed, so nothing was "
                f"{'done again' if again else 'taken back'}."
                + (f" Press again for “{would}”." if would else "")
            )
        done = list(_changes(row).filter(undone=False))
        undone = _changes(row).filter(undone=True).first()
        if again and undone:
            undone.undone = False
            undone.save(update_fields=["undone"])
            _put(row, undone)
            return undone.words
        if not again and len(done) > 1:
            done[-1].undone = True
            done[-1].save(update_fields=["undone"])
            _put(row, done[-2])
            return done[-1].words
    return ""


def history(row: Edited) -> History:
    """What can be undone and done again."""
    changes = _changes(row).defer("zipped")
    done = list(changes.filter(undone=False).order_by("-pk")[:2])
    undone = changes.filter(undone=True).first()
    return History(
        row.revision, done[0].words if len(done) > 1 else "", undone.words if undone else ""
    )


def came_since(row: Edited, seen: int) -> str:
    """What was changed after a revision, in words; "" for nothing that is known."""
    found = _changes(row).filter(revision__gt=seen, undone=False).exclude(words="")
    words = list(dict.fromkeys(found.values_list("words", flat=True)))
    more = len(words) - 3
    told = " and ".join(f"“{w}”" for w in words[-3:])
    return f"{told} and {more} more" if more > 0 else told


def forget(row: Edited) -> None:
    """Delete a document's history, when its row goes for good."""
    _changes(row).delete()


def _changes(row: Edited) -> Any:
    return Change.objects.filter(kind=row.KIND, owner=row.pk)


def _read_newest(row: Edited) -> None:
    newest = type(row)._base_manager.filter(pk=row.pk).first()
    if newest is None or getattr(newest, "deleted_at", None):
        raise GoneError
    for field in newest._meta.concrete_fields:
        setattr(row, field.attname, getattr(newest, field.attname))


def _say_what_came(row: Edited, seen: int | None, error: KettleError) -> None:
    came = came_since(row, seen) if seen is not None and seen != row.revision else ""
    if came:
        error.args = (f"{error} Meanwhile {came} was changed on another page.", *error.args[1:])


def _keep(row: Edited, document: Any, words: str) -> None:
    text = json.dumps(document, separators=(",", ":"))
    Change.objects.create(
        kind=row.KIND,
        owner=row.pk,
        revision=row.revision,
        words=words[:200],
        zipped=zlib.compress(text.encode(), 9),
    )


def _put(row: Edited, change: Change) -> None:
    row.take_over(json.loads(zlib.decompress(change.zipped)))
    row.save()
    document_changed.send(type(row), row=row)


def _forget_oldest(row: Edited) -> None:
    sizes = _changes(row).order_by("-pk").annotate(size=Length("zipped")).values_list("pk", "size")
    total = 0
    for number, (pk, size) in enumerate(sizes):
        total += size
        # The newest one and what was before it stay, however large they are.
        if total > HISTORY_BYTES and number >= 2:
            _changes(row).filter(pk__lte=pk).delete()
            return
