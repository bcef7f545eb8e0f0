"""Which code runs: an engine that goes on after its starter may be of an older one."""

import hashlib
from pathlib import Path

SOURCES = Path(__file__).parents[1]


def code_digest() -> str:
    """Of sizes and times of all of our modules as they lie on the disk now."""
    found = hashlib.sha256()
    for path in sorted(SOURCES.glob("kettle_*/**/*.py")):
        stat = path.stat()
        found.update(f"{path.relative_to(SOURCES)} {stat.st_size} {stat.st_mtime_ns}\n".encode())
    return found.hexdigest()[:16]
