"""Long work of the Format page."""

from typing import Any

from django.conf import settings

from kettle_media.roots import measure_speed, root_path
from kettle_web.jobs.doing import Doing


def folder_speed(doing: Doing) -> dict[str, Any]:
    """How fast the disk of an allowed folder is."""
    doing.give_way()
    path = root_path(settings.TAKES, doing.subject.partition(":")[2])
    path.mkdir(parents=True, exist_ok=True)
    return {"bytes_per_s": measure_speed(path)}
