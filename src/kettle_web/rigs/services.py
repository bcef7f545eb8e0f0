"""What changes rigs: made, changed, undone."""

from contextlib import suppress
from datetime import timedelta
from typing import Any

from django.db import transaction
from django.utils import timezone
from django.utils.text import slugify

from kettle_core.errors import EngineError
from kettle_core.rig.rig import Rig as RigValues
from kettle_core.rig.sound_changes import following_preset
from kettle_engine.protocol import IDLE, WATCHING
from kettle_media.rig_document import rig_to_dict
from kettle_studio.demo import demo_rig
from kettle_web.frame.engine import engine
from kettle_web.models import Rig

# All changes of a day can be undone, and these beyond it.
CHANGES_KEPT = 60

CHANGES_KEPT_FOR = timedelta(days=1)

# Addresses of pages beside those of rigs.
RESERVED = ("new", "import")


@transaction.atomic
def make_demo_rig() -> Rig:
    """The rig of the demo scenario, once; changes made to it are kept."""
    values = demo_rig()
    rig, _ = Rig.objects.get_or_create(
        slug="demo", defaults={"name": values.name, "document": rig_to_dict(values)}
    )
    return rig


def create_rig(*, name: str) -> Rig:
    """A rig of everything that is plugged in. Raises EngineError."""
    return keep_rig(document=engine().ask("propose_rig", name=name))


@transaction.atomic
def keep_rig(*, document: dict[str, Any]) -> Rig:
    """A new rig under an address that is free."""
    name = document["name"]
    base = slugify(name)[:50] or "rig"
    slug, number = base, 2
    while slug in RESERVED or Rig.objects.filter(slug=slug).exists():
        slug, number = f"{base}-{number}", number + 1
    return Rig.objects.create(slug=slug, name=name, document=document)


@transaction.atomic
def change_rig(*, rig: Rig, values: RigValues, words: str) -> None:
    """Keep a changed rig, and how it was before; `words` say what was done."""
    document = rig_to_dict(following_preset(rig.values, values))
    if document == rig.document:
        return
    rig.changes.filter(undone=True).delete()
    rig.changes.create(words=words[:200], before=rig.document, after=document)
    old = rig.changes.values_list("pk", flat=True)[CHANGES_KEPT:]
    before = timezone.now() - CHANGES_KEPT_FOR
    rig.changes.filter(pk__in=list(old), made_at__lt=before).delete()
    _put_document(rig, document)


def _put_document(rig: Rig, document: dict[str, Any]) -> None:
    rig.document, rig.name = document, document["name"]
    rig.save()


@transaction.atomic
def undo_change(*, rig: Rig, again: bool = False) -> str:
    """Take the last change back, or do `again` what was; gives its words, "" for none."""
    changes = rig.changes.filter(undone=again)
    change = changes.last() if again else changes.first()
    if change is None:
        return ""
    change.undone = not again
    change.save()
    _put_document(rig, change.after if again else change.before)
    return change.words


def show_rig(*, rig: Rig) -> None:
    """Have the engine show a changed rig at once, but leave a take's rig alone.

    Without an engine the page says so anyway.
    """
    with suppress(EngineError):
        if engine().ask("status")["state"] in (IDLE, WATCHING):
            engine().ask("open_rig", rig=rig.document, owner=rig.slug)
