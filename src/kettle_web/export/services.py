"""Exports ordered, made anew, deleted."""

from contextlib import suppress
from typing import Any

from django.conf import settings
from django.db import transaction
from django.db.models.signals import post_delete
from django.dispatch import receiver
from django.utils import timezone

from kettle_core.assembly.cut_list import checked
from kettle_core.assembly.export import Export as Order
from kettle_core.assembly.export import checked_length, first_aim
from kettle_core.assembly.laid import check_is_seen, time_map
from kettle_core.rig.file_names import file_name
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.assembly.export_document import export_to_dict
from kettle_media.assembly.export_file import chapters_beside, spool_beside
from kettle_web.assembly.material import Material
from kettle_web.assembly.services import as_now
from kettle_web.frame.history import arrange
from kettle_web.jobs.services import LONG, cancel, order
from kettle_web.models import Export, Version

PATTERN = "{tutorial}-{take}-{track}"


def order_export(*, version: Version, wanted: Order) -> Export:
    """Have a file made of a version as it is now.

    Raises
    ------
    CutError
        If there is nothing to be made, or it can't be as small as is wanted.
    """
    material = Material(version.tutorial)
    cuts = checked(as_now(version, material).values, material.known())
    check_is_seen(cuts, material.fps)
    whole_s = float(time_map(cuts, material.fps).length_ns) / NS_PER_S
    length_s = checked_length(wanted, whole_s, material.fps)
    if wanted.max_mb and wanted.has_picture and wanted.has_sound:
        first_aim(wanted, wanted.mode(material.format), length_s)
    with transaction.atomic():
        export = Export.objects.create(
            version=version,
            document=version.document,
            order=export_to_dict(wanted),
            file=_free_name(version, wanted),
        )
        title = f"{version.tutorial.name}: {export.file}"
        export.job = order(kind="export", queue=LONG, subject=f"export:{export.pk}", title=title)
        export.save(update_fields=["job"])
    return export


def _free_name(version: Version, wanted: Order) -> str:
    """A name for the file that no other one has."""
    fields = {
        "tutorial": version.tutorial.name,
        "take": "" if version.name == Version.FIRST else version.name,
        "track": str(wanted.lines) if wanted.has_picture else "",
    }
    folder = settings.DATA / "exports"

    def taken(name: str) -> bool:
        file = f"{name}.{wanted.suffix}"
        return (folder / file).exists() or Export.with_deleted.filter(file=file).exists()

    return f"{file_name(PATTERN, fields, taken)}.{wanted.suffix}"


def delete_export(*, export: Export) -> None:
    """Lay a file into the bin; one that is being made is not made on."""
    if export.job and not export.job.is_over:
        cancel(job=export.job)
    now = timezone.now()
    arrange([export], f"“{export.file}” deleted", lambda one: setattr(one, "deleted_at", now))


@receiver(post_delete, sender=Export)
def _remove_files(instance: Export, **_: Any) -> None:
    """Files of a row that goes for good go with it."""
    path = instance.path
    with suppress(OSError):
        path.unlink(missing_ok=True)
        chapters_beside(path).unlink(missing_ok=True)
        spool_beside(path).unlink(missing_ok=True)
