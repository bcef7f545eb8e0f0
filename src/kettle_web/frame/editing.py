"""Documents are edited: each change is made to the newest values, kept as a revision, undoable.

A change is a function of the newest values, called inside the transaction; whatever it needs from
elsewhere (a form, devices) it brings along, and nothing slow. Two pages that change something at
the same moment are both kept: the second change is made to what the first one left.
"""

from collections.abc import Callable, Iterable
from typing import Any, TypeVar

from django.db import transaction
from django.dispatch import Signal

from kettle_core.errors import KettleError, RigError
from kettle_web.frame.history import (
    Fields,
    History,
    NewerError,
    Part,
    came_since,
    changes_of,
    history,
    keep,
    refusal,
    row_of,
    take_back,
)
from kettle_web.models import Change, Edited, Undoable

Values = TypeVar("Values")
# Sent inside the transaction with the `row`: what follows from a change, or keeps it from being
# made by raising a KettleError.
document_changed = Signal()
Made = tuple[Values, str]


class GoneError(RigError):
    """The document was deleted."""

    def __init__(self) -> None:
        super().__init__(
            "This was deleted meanwhile, so nothing was changed. It can be brought back."
        )


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
        if _write(row, {"document": row.write(values)}, words):
            document_changed.send(type(row), row=row)
            return words
    return ""


def set_fields(row: Edited, fields: Fields, words: str) -> None:
    """Set fields of a row that are changed and undone with its document."""
    with transaction.atomic():
        _read_newest(row)
        if _write(row, fields, words):
            document_changed.send(type(row), row=row)


def undo(
    row: Edited,
    seen: int | None = None,
    again: bool = False,
    of: int | None = None,
    beside: Iterable[Undoable] = (),
) -> str:
    """Take the newest change back, whoever made it, or do `again` what was; gives its words.

    `of` is the change that is meant, if that is known; `beside` as in `history`.

    Raises
    ------
    NewerError
        If something was changed since `seen`; it says what, and nothing is taken back.
    """
    with transaction.atomic():
        _read_newest(row)
        others = list(beside)
        now = history(row, others)
        if seen is not None and seen != row.revision:
            would = now.redo if again else now.undo
            raise NewerError(refusal(came_since(row, seen), would, again))
        of = None if seen is None else _meant(row, now, again, of)
        words = take_back(changes_of(row, others), again, of, _put)
        _read_newest(row)
    return words


def _meant(row: Edited, now: History, again: bool, of: int | None) -> int | None:
    """The change that a page means: one of the document is told by the revision that it saw."""
    newest = now.redo_of if again else now.undo_of
    is_of_document = Change.objects.filter(pk=newest, scope=row.key).exists()
    return None if is_of_document else of


def _write(row: Edited, after: Fields, words: str) -> bool:
    """Write fields and the next revision, and keep what was; whether anything is different."""
    before = {name: getattr(row, name) for name in after}
    if before == after:
        return False
    _take_over(row, after)
    keep(row.key, words, [Part(row.key, before, after, row.revision)])
    return True


def _take_over(row: Edited, fields: Fields) -> None:
    row.take_over(fields.get("document", row.document))
    for name in fields.keys() - {"document"}:
        setattr(row, name, fields[name])
    row.save(update_fields=row.WRITTEN)


def _put(key: str, fields: Fields) -> None:
    row = row_of(key)
    if isinstance(row, Edited):
        _take_over(row, fields)
        document_changed.send(type(row), row=row)


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
