"""Rigs carried to other machines and back, and copied."""

from typing import Any

from django.db import transaction

from kettle_core.rig.changes import Substitution, fit_to_devices
from kettle_core.rig.devices import DeviceInfo
from kettle_media.rig.rig_file import pictures_of, rig_from_file, rig_to_file
from kettle_media.rig.stills import keep_picture, png_size
from kettle_media.rig_document import rig_to_dict
from kettle_web.models import Rig, Still
from kettle_web.rigs import services
from kettle_web.rigs.library import library


def export_rig(*, rig: Rig) -> bytes:
    """The rig as one file, the pictures it uses in it."""
    values = rig.values
    folder = library()
    names = pictures_of(values)
    pictures = {
        n: (folder / f"{n}.png").read_bytes() for n in names if (folder / f"{n}.png").exists()
    }
    return rig_to_file(values, pictures)


def import_rig(
    *, data: bytes, plugged_in: list[DeviceInfo] | None = None
) -> tuple[Rig, list[Substitution]]:
    """A new rig from a file, fitted to what is plugged in here.

    Raises
    ------
    RigError
        If the file is no rig file or does not hold together; nothing is kept then.
    """
    values, pictures = rig_from_file(data)
    told: list[Substitution] = []
    if plugged_in is not None:
        values, told = fit_to_devices(values, plugged_in)
    used = pictures_of(values)
    sizes = {digest: png_size(pictures[digest]) for digest in used}
    for digest in used:
        keep_picture(library(), digest, pictures[digest])
    titles = {i.still: i.name for i in values.inputs if i.still}
    with transaction.atomic():
        rig = services.keep_rig(document=rig_to_dict(values))
        for digest, (width, height) in sizes.items():
            name = titles.get(digest, "Mask")
            Still.objects.create(rig=rig, digest=digest, name=name, width=width, height=height)
    return rig, told


def duplicate_rig(*, rig: Rig) -> Rig:
    """A copy of a rig with its library."""
    document: dict[str, Any] = {**rig.document, "name": f"{rig.name[:73]} (copy)"}
    with transaction.atomic():
        copy = services.keep_rig(document=document)
        for still in rig.stills.all():
            still.pk, still.rig = None, copy
            still.save(force_insert=True)
    return copy
