"""What was heard of an input last, kept for half an hour."""

from pathlib import Path

from django.conf import settings

from kettle_core.rig.rig import Input
from kettle_web.models import Rig

HEARD_FOR_S = 1800


def heard_name(rig: Rig, item: Input) -> str:
    """Under which name what was heard of an input is kept."""
    return f"{rig.slug}-{item.id}"


def heard_path(rig: Rig, item: Input, which: str) -> Path:
    """The file of what was heard: "raw", "gain" or its figures as "json"."""
    folder = Path(settings.DATA) / "heard"
    if which == "json":
        return folder / f"{heard_name(rig, item)}.json"
    return folder / f"{heard_name(rig, item)}-{which}.flac"
