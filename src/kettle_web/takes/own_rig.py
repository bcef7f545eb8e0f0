"""A take's own rig: its scenes and sound as they are changed after it was recorded."""

from pathlib import Path
from typing import Any

from django.conf import settings
from django.dispatch import receiver

from kettle_core.rig.rig import Rig as RigValues
from kettle_media.rig.stills import copy_masks
from kettle_media.rig_document import rig_to_dict
from kettle_media.take.folder import TakeFolder
from kettle_media.take.rig_now import rig_now, write_rig_now
from kettle_media.told import Told
from kettle_web.frame.editing import Made, document_changed, edit
from kettle_web.models import Rig, Take
from kettle_web.rigs.services import rig_of_take
from kettle_web.takes.orders import order_program


def own_rig(*, take: Take) -> Rig:
    """The rig of a take, as its folder has it when it is first asked for. Raises TakeError."""
    found = Rig.with_takes.filter(of_take=take).first()
    if found:
        return found
    folder = TakeFolder(take.path)
    values, _ = rig_now(folder, folder.read_info())
    return rig_of_take(take=take, document=rig_to_dict(values))


def as_recorded(*, rig: Rig, seen: int | None) -> None:
    """Have a take's rig as it was recorded; undo brings what was changed back."""
    if rig.of_take:
        recorded = TakeFolder(rig.of_take.path).read_info().rig_values

        def changed(_: RigValues) -> Made[RigValues]:
            return recorded, "as it was recorded"

        edit(rig, changed, seen)


@receiver(document_changed, sender=Rig)
def keep_with_take(row: Rig, **_: Any) -> None:
    """Have the take's folder and its program follow its rig.

    Raises
    ------
    TakeError
        If the folder won't have it; nothing is changed then.
    """
    if row.of_take is None:
        return
    folder = TakeFolder(row.of_take.path)
    info = folder.read_info()
    if row.values == rig_now(folder, info)[0]:
        return
    with Told(folder.stills_path, writing=True):
        copy_masks(row.values.scenes, Path(settings.DATA) / "pictures", folder.stills_path)
    order_program(take=row.of_take, afresh=True)
    # The folder last: what goes wrong before leaves both as they were.
    write_rig_now(folder, info, row.values)
