"""Log lines: time in UTC, level, who says it; each process has a file, which is rotated."""

import logging
import logging.handlers
import os
import time
from pathlib import Path
from typing import Any

FORMAT = "%(asctime)s.%(msecs)03dZ %(levelname)-7s %(name)s: %(message)s"
FILE_BYTES, FILES_KEPT = 2_000_000, 4


class UtcFormatter(logging.Formatter):
    """Times in UTC, so that files of all processes and machines can be laid side by side."""

    converter = staticmethod(time.gmtime)

    def __init__(self) -> None:
        super().__init__(FORMAT, "%Y-%m-%dT%H:%M:%S")


def logging_settings(data: Path) -> dict[str, Any]:
    """For `dictConfig`: to the file that KETTLE_LOG names in the data folder, else to stderr."""
    name = os.environ.get("KETTLE_LOG", "")
    handler: dict[str, Any] = {"class": "logging.StreamHandler", "formatter": "utc"}
    if name:
        (data / "logs").mkdir(parents=True, exist_ok=True)
        handler |= {
            "class": "logging.handlers.RotatingFileHandler",
            "filename": data / "logs" / f"{name}.log",
            "maxBytes": FILE_BYTES,
            "backupCount": FILES_KEPT,
            "delay": True,
        }
    return {
        "version": 1,
        "disable_existing_loggers": False,
        "formatters": {"utc": {"()": "kettle_engine.logs.UtcFormatter"}},
        "handlers": {"out": handler},
        "root": {"handlers": ["out"], "level": "INFO"},
        "loggers": {
            # Django's own handlers would say things twice.
            "django": {"handlers": [], "propagate": True},
            "django.server": {"handlers": [], "propagate": True},
        },
    }
