"""What a take's folder and the files handed on are called: by the rig's pattern."""

from datetime import datetime
from pathlib import Path

from django.utils import timezone

from kettle_core.errors import KettleError
from kettle_core.rig.file_names import file_name
from kettle_core.rig.format import DEFAULT_PATTERN
from kettle_core.rig.rig import Rig as RigValues
from kettle_media.naming import name_fields
from kettle_media.roots import root_paths
from kettle_media.take.folder import TakeFolder
from kettle_web.models import Take, Tutorial

PROGRAM = "program"


def free_folder(
    *, pattern: str, tutorial: Tutorial, rig: str, number: int, when: datetime, takes: Path
) -> str:
    """A name for a new take's folder that no other take has, in any of the allowed folders."""

    def taken(name: str) -> bool:
        known = Take.with_deleted.filter(folder=name).exists()
        paths = root_paths(takes).values()
        return known or any((path / name).exists() for path in paths)

    fields = name_fields(timezone.localtime(when), rig, number, tutorial.name)
    return file_name(pattern, fields, taken)


def _recorded_rig(take: Take) -> RigValues | None:
    """The rig that a take was recorded with, where its own is gone."""
    try:
        return TakeFolder(take.path).read_info().rig_values
    except KettleError:
        return None


def download_name(take: Take, track: str, ending: str) -> str:
    """What a file of a take is called when it is handed on: by its rig's pattern, today's names."""
    values = take.rig.values if take.rig else _recorded_rig(take)
    pattern = values.format.files.pattern if values else DEFAULT_PATTERN
    rig = values.name if values else ""
    if "{track}" not in pattern:
        pattern = f"{pattern}-{{track}}"
    when = timezone.localtime(take.recorded_at)
    fields = name_fields(when, rig, take.number, take.tutorial.name, track)
    return file_name(pattern, fields, lambda _: False) + ending
