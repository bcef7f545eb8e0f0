"""Takes changed afterwards."""

from functools import partial

from django.db import transaction
from django.http import QueryDict

from kettle_core.program.afterwards import changes_program
from kettle_media.take.afterwards import write_afterwards
from kettle_media.take.pointers import pointer_way
from kettle_web.frame.editing import edit, undo
from kettle_web.library.services import index_words
from kettle_web.models import Take
from kettle_web.takes.changes import Asked, change
from kettle_web.takes.now import TakeNow, take_now
from kettle_web.takes.orders import order_program


def change_take(*, take: Take, post: QueryDict, seen: int | None) -> None:
    """Change a take afterwards; its program is composed again where it looks different.

    Raises
    ------
    KettleError
        If the change can't be made or the take's folder won't have it; nothing is changed then.
    """
    now = take_now(take)
    asked = Asked(post, now.was, now.take_time, partial(pointer_way, now.folder))
    with transaction.atomic():
        edit(take, lambda values: change(values, asked), seen)
        _keep_changed(take, now)


def undo_change(*, take: Take, seen: int | None, again: bool, of: int | None = None) -> str:
    """Take the newest change back, or do it again; gives its words. Raises KettleError."""
    now = take_now(take)
    with transaction.atomic():
        words = undo(take, seen, again, of)
        _keep_changed(take, now)
    return words


def _keep_changed(take: Take, before: TakeNow) -> None:
    """Have the folder and the program follow what was changed."""
    index_words(take)
    if changes_program(before.changed, take.values, before.was):
        order_program(take=take, afresh=True)
    # The folder last: what goes wrong before leaves both as they were.
    write_afterwards(before.folder, take.values)
