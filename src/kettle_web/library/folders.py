"""Folders of the library: made, and taken away with what lies in them."""

from django.db import IntegrityError, transaction
from django.utils import timezone

from kettle_core.errors import TakeError
from kettle_web.frame.history import arrange
from kettle_web.library.selectors import below, tree
from kettle_web.models import Folder

DEEPEST = 12


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
    """Lay a folder into the bin with those in it; takes in them stay, and lie in none meanwhile."""
    folders = Folder.objects.filter(pk__in=[folder.pk, *below(folder, tree())])
    now = timezone.now()
    arrange(folders, f"folder “{folder.name}” deleted", lambda one: setattr(one, "deleted_at", now))
