"""What was clicked, pressed and touched in a take."""

import contextlib
from dataclasses import dataclass

from kettle_media.take.folder import TakeFolder
from kettle_media.take.json_lines import read_json_lines

MOST_HAPPENED = 5000


@dataclass(frozen=True)
class Happened:
    """A click, key or touch at a record time, in words."""

    at_ns: int
    what: str
    words: str = ""


def happened(folder: TakeFolder) -> tuple[Happened, ...]:
    """What happened; the pointer's way is left out."""
    found: list[Happened] = []
    for row in read_json_lines(folder.path / "events.jsonl"):
        with contextlib.suppress(ValueError, KeyError, TypeError, AttributeError):
            if row["what"] != "pointer" and len(found) < MOST_HAPPENED:
                words = str(row.get("key") or "")[:40]
                found.append(Happened(int(row["at_ns"]), str(row["what"])[:20], words))
    return tuple(found)
