"""What the frame round every page shows: the machine, level strips, kinds of inputs in words."""

import shutil
from typing import Any

from django.conf import settings

from kettle_core.sound.levels import STRIP_TICKS_DBFS, VOICE_BAND_DBFS, strip_position
from kettle_engine.machine import machine_status

KIND_WORDS = {
    "display": "display",
    "window": "window",
    "tab": "tab",
    "tablet": "tablet",
    "webcam": "webcam",
    "video-file": "video file",
    "picture": "picture",
    "text": "text card",
    "microphone": "microphone",
    "system-audio": "system audio",
    "sound-file": "sound file",
}


def level_strip() -> dict[str, Any]:
    """Places on a level strip, in % of its width."""
    low, high = (100 * strip_position(level) for level in VOICE_BAND_DBFS)
    return {
        "ticks": [{"db": db, "at": f"{100 * strip_position(db):.1f}"} for db in STRIP_TICKS_DBFS],
        "band_from": f"{low:.1f}",
        "band_width": f"{high - low:.1f}",
    }


def machine() -> dict[str, Any]:
    """Room left and load, for the top of every page."""
    return machine_status(shutil.disk_usage(settings.DATA).free)
