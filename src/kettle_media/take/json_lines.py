"""Lines of JSON beside a take's tracks, as far as they can be read."""

import contextlib
import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any


def read_json_lines(path: Path) -> Iterator[Any]:
    """Each line's value, without holding the file; lines that a kill cut off are left out."""
    with contextlib.suppress(OSError), path.open("rb") as file:
        for line in file:
            with contextlib.suppress(ValueError):
                yield json.loads(line)
