"""What was done, and how it is taken back: one way for all rows.

A change keeps the fields of each row that it was made to, before and after. A page shows the
newest change of its row; the library shows what was done with rows.
"""

import json
import zlib
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.apps import apps
from django.db import IntegrityError, transaction
from django.db.models import Q, QuerySet
from django.db.models.functions import Length
from django.dispatch import Signal

from kettle_core.errors import RigError
from kettle_web.frame.asking import whole_number
from kettle_web.models import Change, ChangedRow, Undoable

LIBRARY = "library"
# Of a row about 300 changes; the newest one can always be undone.
HISTORY_BYTES = 400_000
MOST_KEPT = 200
# Sent inside the transaction with the `rows` whose named fields were set.
arranged = Signal()
Fields = dict[str, Any]


class NewerError(RigError):
    """Something newer was done, so what was wanted was not."""


@dataclass(frozen=True)
class History:
    """What can be undone and done again, in words, "" for nothing; which change is meant."""

    revision: int
    undo: str
    redo: str
    undo_of: int = 0
    redo_of: int = 0


@dataclass(frozen=True)
class Part:
    """A row's fields before and after a change, and the revision that it got."""

    row: str
    before: Fields
    after: Fields
    revision: int = 0


def keep(scope: str, words: str, parts: Iterable[Part]) -> None:
    """Keep something that was done; what was undone of the same rows can't be done again."""
    found = list(parts)
    touched = [part.row for part in found]
    undone = Change.objects.filter(undone=True)
    if scope == LIBRARY:
        undone.filter(scope=LIBRARY).delete()
    for some in _in_hundreds(touched):
        undone.filter(rows__row__in=some).delete()
    change = Change.objects.create(scope=scope, words=words[:200])
    rows = [ChangedRow(change=change, row=part.row, revision=part.revision, zipped=_zip(part))
            for part in found]  # fmt: skip
    ChangedRow.objects.bulk_create(rows, batch_size=200)
    _forget_oldest(scope)


def history(row: Undoable | None, beside: Iterable[Undoable] = ()) -> History:
    """What can be undone of a row, and done again; None for a page that has none.

    Rows that lie `beside` it are named, laid elsewhere and deleted on its page as well.
    """
    return _told(changes_of(row, beside), getattr(row, "revision", 0))


def library_history() -> History:
    """What was done with rows last, and what was undone last."""
    return _told(changes_of_library(), 0)


def changes_of_library() -> QuerySet[Change]:
    """All that was done with rows."""
    return Change.objects.filter(scope=LIBRARY)


def came_since(row: Undoable, seen: int) -> str:
    """What was changed of a row after a revision, in words; "" for nothing that is known."""
    found = ChangedRow.objects.filter(row=row.key, revision__gt=seen, change__undone=False)
    words = list(dict.fromkeys(found.values_list("change__words", flat=True)))
    more = len(words) - 3
    told = " and ".join(f"“{w}”" for w in words[-3:])
    return f"{told} and {more} more" if more > 0 else told


def forget(row: Undoable) -> None:
    """Forget what was done with a row, when it goes for good; also what nothing is left of."""
    changes = list(changes_of(row).values_list("pk", flat=True))
    ChangedRow.objects.filter(row=row.key).delete()
    Change.objects.filter(pk__in=changes, rows=None).delete()


def arrange(
    rows: Iterable[Undoable], words: str, change: Callable[[Any], None], scope: str = LIBRARY
) -> bool:
    """Set fields of rows as they are now; what was is kept. Gives whether anything is different.

    Parameters
    ----------
    rows : all of one kind; each kind says which of its fields are set so (`ARRANGED`)
    change : sets fields of a row; raises where it can't be done, and nothing is done then
    """
    asked = list(rows)
    if not asked:
        return False
    kind = type(asked[0])
    with transaction.atomic():
        newest = kind._base_manager.in_bulk([row.pk for row in asked])
        before = {pk: _fields(row) for pk, row in newest.items()}
        for row in newest.values():
            change(row)
        changed = [row for pk, row in newest.items() if _fields(row) != before[pk]]
        if not changed:
            return False
        kind._base_manager.bulk_update(changed, _columns(kind), batch_size=100)
        keep(scope, words, (Part(row.key, before[row.pk], _fields(row)) for row in changed))
        arranged.send(kind, rows=changed)
    return True


def take_back(
    changes: QuerySet[Change],
    again: bool,
    of: int | None = None,
    put: Callable[[str, Fields], None] = lambda *_: None,
) -> str:
    """Take the newest of some changes back, or do it `again`; gives its words.

    Parameters
    ----------
    of : the change that is meant, if that is known
    put : sets a document, by its row's key. Named fields are set here, where nothing else was
        done with them since

    Raises
    ------
    NewerError
        If another change is the newest by now; nothing is taken back.
    """
    with transaction.atomic():
        found = _next(changes, again)
        if found is None:
            return ""
        if of is not None and found.pk != of:
            raise NewerError(refusal(f"“{found.words}”", found.words, again))
        rows = []
        for part in found.rows.all():
            before, after = json.loads(zlib.decompress(part.zipped))
            was, then = (before, after) if again else (after, before)
            if part.revision:
                put(part.row, then)
            else:
                rows += _set(part.row, was, then)
        for kind in {type(one) for one in rows}:
            arranged.send(kind, rows=[one for one in rows if type(one) is kind])
        found.undone = not again
        found.save(update_fields=["undone"])
    return found.words


def refusal(came: str, would: str, again: bool) -> str:
    """Why nothing was taken back, and what would be now."""
    done = "done again" if again else "taken back"
    more = f" Press again for “{would}”." if would else ""
    return f"Meanwhile {came or 'something'} was changed, so nothing was {done}.{more}"


def row_of(key: str) -> Undoable | None:
    """The row of a key, deleted or not; None where it went for good."""
    kind, _, pk = key.partition(":")
    model: type[Undoable] = next(m for m in _kinds() if kind == m.KIND)
    return model._base_manager.filter(pk=whole_number(pk)).first()


def _kinds() -> list[type[Undoable]]:
    return [model for model in apps.get_models() if issubclass(model, Undoable)]


def changes_of(row: Undoable | None, beside: Iterable[Undoable] = ()) -> QuerySet[Change]:
    """All that was done with a row, and in what ways with rows beside it."""
    found = Q(scope=LIBRARY, rows__row__in=[other.key for other in beside])
    if row:
        found |= Q(rows__row=row.key)
    return Change.objects.filter(found).distinct()


def _next(changes: QuerySet[Change], again: bool) -> Change | None:
    found = changes.filter(undone=again)
    return found.order_by("pk").first() if again else found.order_by("-pk").first()


def _told(changes: QuerySet[Change], revision: int) -> History:
    done, undone = _next(changes, False), _next(changes, True)
    return History(
        revision,
        done.words if done else "",
        undone.words if undone else "",
        done.pk if done else 0,
        undone.pk if undone else 0,
    )


def _set(key: str, was: Fields, then: Fields) -> list[Undoable]:
    """Set the fields that are another one, unless the row is gone or they were set since."""
    row, changed = row_of(key), {name: v for name, v in then.items() if was[name] != v}
    if row is None or any(_fields(row)[name] != was[name] for name in changed):
        return []
    for name, value in changed.items():
        field = row._meta.get_field(name.removesuffix("_id"))
        other: Any = field.related_model
        if other and not other._base_manager.filter(pk=value).exists():
            # Where it lay is gone for good by now.
            if field.null:
                setattr(row, name, None)
        elif name.endswith("_at") and value:
            setattr(row, name, datetime.fromisoformat(value))
        else:
            setattr(row, name, value)
    try:
        with transaction.atomic():
            row.save(update_fields=_columns(type(row)))
    except IntegrityError as error:
        sentence = f"There is another “{row}” by now, so nothing was done. Rename that one first."
        raise NewerError(sentence) from error
    return [row]


def _fields(row: Undoable) -> Fields:
    values = {name: getattr(row, name) for name in row.ARRANGED}
    return {n: v.isoformat() if isinstance(v, datetime) else v for n, v in values.items()}


def _columns(kind: type[Undoable]) -> list[str]:
    return [name.removesuffix("_id") for name in kind.ARRANGED]


def _zip(part: Part) -> bytes:
    text = json.dumps([part.before, part.after], separators=(",", ":"))
    return zlib.compress(text.encode(), 9)


def _in_hundreds(keys: Sequence[str]) -> Iterable[Sequence[str]]:
    return (keys[n : n + 500] for n in range(0, len(keys), 500))


def _forget_oldest(scope: str) -> None:
    """Bound what is kept; the newest two stay, however large they are."""
    changes = Change.objects.filter(scope=scope).order_by("-pk")
    if scope == LIBRARY:
        last = changes.values_list("pk", flat=True)[MOST_KEPT : MOST_KEPT + 1].first()
    else:
        sizes = ChangedRow.objects.filter(change__scope=scope).order_by("-pk")
        total, last = 0, None
        found = sizes.annotate(size=Length("zipped")).values_list("change", "size")
        for number, (pk, size) in enumerate(found):
            total += size
            if total > HISTORY_BYTES and number >= 2:
                last = pk
                break
    if last:
        Change.objects.filter(scope=scope, pk__lte=last).delete()
