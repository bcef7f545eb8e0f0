"""What was heard of an input last, kept for half an hour."""

import time
from contextlib import suppress
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


def forget_heard() -> None:
    """Delete what was heard longer ago than it is kept."""
    before_s = time.time() - HEARD_FOR_S
    for path in (Path(settings.DATA) / "heard").glob("*"):
        with suppress(FileNotFoundError):
            if path.stat().st_mtime < before_s:
                path.unlink()


def forget_heard_of(rig: Rig) -> None:
    """Delete what was heard of a rig's inputs."""
    for item in rig.values.inputs:
        for which in ("json", "raw", "gain", "before", "after"):
            heard_path(rig, item, which).unlink(missing_ok=True)
