"""Where the pointers of a take were."""

import contextlib
from collections.abc import Iterator

from kettle_media.take.folder import TakeFolder
from kettle_media.take.json_lines import read_json_lines

# As fine as anything follows it.
EVERY_NS = 50_000_000


def pointer_way(folder: TakeFolder, input_id: str) -> Iterator[tuple[int, float, float]]:
    """Record time in ns and place in px of the input's picture, rising, thinned out."""
    last_ns = -EVERY_NS
    for row in read_json_lines(folder.path / "events.jsonl"):
        with contextlib.suppress(ValueError, KeyError, TypeError, AttributeError):
            at_ns = int(row["at_ns"])
            mine = row["input"] == input_id and row["what"] == "pointer"
            if mine and at_ns - last_ns >= EVERY_NS:
                last_ns = at_ns
                yield at_ns, float(row["x"]), float(row["y"])
