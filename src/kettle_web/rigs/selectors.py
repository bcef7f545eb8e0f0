"""What pages tell of a rig."""

import shutil
from typing import Any

from django.conf import settings

from kettle_web.models import Rig


def rig_costs(rig: Rig) -> dict[str, Any]:
    """What recording costs, measured on this rig's last take, and the room left."""
    free_bytes = shutil.disk_usage(settings.DATA).free
    last = rig.takes.exclude(duration_s=None).filter(duration_s__gte=1, size_bytes__gt=0).first()
    costs: dict[str, Any] = {"free_bytes": free_bytes}
    if last and last.duration_s:
        per_minute = last.size_bytes / last.duration_s * 60
        costs |= {"per_minute_bytes": per_minute, "room_minutes": free_bytes / per_minute}
    return costs
