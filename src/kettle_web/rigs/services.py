"""What changes rigs: made, changed, undone."""

import shutil
from contextlib import suppress
from typing import Any

from django.conf import settings
from django.db import transaction
from django.db.models.signals import post_delete
from django.dispatch import receiver
from django.utils import timezone
from django.utils.text import slugify

from kettle_core.errors import EngineError
from kettle_engine.protocol import IDLE, WATCHING
from kettle_engine.trial.kept import trial_folder
from kettle_media.rig_document import rig_to_dict
from kettle_studio.demo import sized_demo_rig
from kettle_web.frame.engine import engine
from kettle_web.frame.history import arrange
from kettle_web.models import Rig, Take
from kettle_web.rigs.engines import shown_now
from kettle_web.rigs.heard import forget_heard_of

# Addresses of pages beside those of rigs.
RESERVED = ("new", "import")


@transaction.atomic
def make_demo_rig() -> Rig:
    """The rig of the demo scenario, once; changes made to it are kept."""
    values = sized_demo_rig()
    rig, _ = Rig.with_deleted.get_or_create(
        slug="demo", defaults={"name": values.name, "document": rig_to_dict(values)}
    )
    return rig


def create_rig(*, name: str) -> Rig:
    """A rig of everything that is plugged in. Raises EngineError."""
    return keep_rig(document=engine().ask("propose_rig", name=name))


@transaction.atomic
def keep_rig(*, document: dict[str, Any]) -> Rig:
    """A new rig under an address that is free."""
    return Rig.objects.create(slug=_free_slug(document["name"]), **_named(document))


@transaction.atomic
def rig_of_take(*, take: Take, document: dict[str, Any]) -> Rig:
    """The rig of a take's own, made of a document when it is first asked for."""
    fresh = {"slug": _free_slug(f"take {take.pk}"), **_named(document)}
    return Rig.with_deleted.get_or_create(of_take=take, defaults=fresh)[0]


def _named(document: dict[str, Any]) -> dict[str, Any]:
    return {"name": document["name"], "document": document}


def _free_slug(name: str) -> str:
    base = slugify(name)[:50] or "rig"
    slug, number = base, 2
    while slug in RESERVED or Rig.with_deleted.filter(slug=slug).exists():
        slug, number = f"{base}-{number}", number + 1
    return slug


def delete_rig(*, rig: Rig) -> None:
    """Lay a rig into the bin; its takes stay."""
    now = timezone.now()
    arrange([rig], f"rig “{rig.name}” deleted", lambda one: setattr(one, "deleted_at", now))


@receiver(post_delete, sender=Rig)
def _forget_files(instance: Rig, **_: Any) -> None:
    """What was measured and heard of a rig goes with it."""
    forget_heard_of(instance)
    shutil.rmtree(trial_folder(settings.DATA, instance.slug), ignore_errors=True)


def show_rig(*, rig: Rig) -> None:
    """Have the engine show a changed rig at once, but leave a take's rig alone.

    Without an engine the page says so anyway.
    """
    with suppress(EngineError):
        shows = shown_now(rig)
        if shows.ask("status")["state"] in (IDLE, WATCHING):
            shows.ask("open_rig", rig=rig.document, owner=rig.slug)
