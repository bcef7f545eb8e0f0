"""The machine's own time zone: names of files bear its time, the data base that of UTC."""

import os
from contextlib import suppress
from pathlib import Path
from zoneinfo import ZoneInfo

LINK = Path("/etc/localtime")


def local_zone(link: Path = LINK) -> str:
    """Its name in the IANA's data base: that in TZ, else that of the system; "UTC" without any."""
    found = link.resolve().as_posix().rpartition("/zoneinfo/")[2] if link.is_symlink() else ""
    for name in (os.environ.get("TZ", "").lstrip(":"), found):
        with suppress(ValueError, KeyError, OSError):
            if name:
                return str(ZoneInfo(name))
    return "UTC"
