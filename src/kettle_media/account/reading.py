"""The files of a take as its account needs them: numbers and times, nothing else."""

import contextlib
import json
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import av
import numpy as np
from numpy.typing import NDArray

from kettle_media.account.writing import FOLDER

# The first so long of a pause is written (docs/take-format.md).
WRITTEN_OF_PAUSE_NS = 5_000_000_000
FOREVER_NS = 1 << 62
Numbers = NDArray[np.int64]


@dataclass(frozen=True)
class Came:
    """Captures of a run: their numbers, rising, and about when each came on the master clock."""

    run: str
    numbers: Numbers
    master_ns: Numbers


def lines(path: Path) -> Iterator[dict[str, Any]]:
    """Objects of a file of JSON lines, without those that a kill cut off."""
    with contextlib.suppress(OSError), path.open("rb") as file:
        for line in file:
            with contextlib.suppress(ValueError):
                value = json.loads(line)
                if isinstance(value, dict):
                    yield value


def read_came(folder: Path) -> tuple[dict[str, list[Came]], list[tuple[int, int]]]:
    """What came, by input, and stretches of the master clock of which that is known."""
    found: dict[str, dict[str, list[tuple[Numbers, Numbers]]]] = {}
    known: list[tuple[int, int]] = []
    for path in sorted((folder / FOLDER).glob("*.jsonl")):
        for line in lines(path):
            known.append((line["since_ns"], line["until_ns"]))
            for came in line["came"]:
                ranges = [np.arange(a, b + 1, dtype=np.int64) for a, b in came["numbers"]]
                numbers = np.concatenate(ranges)
                span = max(1, int(numbers[-1] - numbers[0]))
                part = (numbers - numbers[0]) / span
                at = came["from_ns"] + np.rint(part * (came["to_ns"] - came["from_ns"]))
                runs = found.setdefault(came["input"], {})
                runs.setdefault(came["run"], []).append((numbers, at.astype(np.int64)))
    return {
        name: [
            Came(run, np.concatenate([n for n, _ in parts]), np.concatenate([t for _, t in parts]))
            for run, parts in runs.items()
        ]
        for name, runs in found.items()
    }, known


def known_until(folder: Path) -> dict[str, int]:
    """Until when each file of an account tells what came, by its name."""
    found = {}
    for path in (folder / FOLDER).glob("*.jsonl"):
        with contextlib.suppress(OSError), path.open("rb") as file:
            file.seek(max(0, path.stat().st_size - 65536))
            for line in file.read().split(b"\n"):
                with contextlib.suppress(ValueError, KeyError, TypeError):
                    found[path.name] = int(json.loads(line)["until_ns"])
    return found


def read_rows(path: Path) -> dict[str, Numbers]:
    """Columns of a track's times by their names; a last line cut off is left out."""
    text = path.read_bytes()
    head, _, body = text.partition(b"\n")
    names = head.decode(errors="replace").split(",")
    whole = body[: body.rfind(b"\n") + 1]
    values = np.fromstring(whole.replace(b"\n", b",").decode(), np.int64, sep=",")
    table = values.reshape(-1, len(names))
    return {name: table[:, number] for number, name in enumerate(names)}


def read_file(path: Path) -> tuple[Numbers, Numbers]:
    """Where the packets of a track begin and end in its file, in ms."""
    begins, ends = [], []
    with contextlib.suppress(av.error.FFmpegError), av.open(str(path)) as container:
        stream = container.streams[0]
        ms = float(stream.time_base or 0) * 1000
        for packet in container.demux(stream):
            if packet.pts is not None and packet.size:
                begins.append(round(packet.pts * ms))
                ends.append(round((packet.pts + (packet.duration or 0)) * ms))
    return np.array(begins, np.int64), np.array(ends, np.int64)


def read_unwritten(folder: Path) -> list[tuple[int, int]]:
    """Stretches of record time in ns that pauses leave out."""
    found, since = [], None
    cues = [c for c in lines(folder / "cues.jsonl") if "at_ns" in c]
    for cue in sorted(cues, key=lambda cue: int(cue["at_ns"])):
        what, at_ns = cue.get("do", cue.get("what")), int(cue["at_ns"])
        if what == "pause" and since is None:
            since = at_ns
        elif what == "go-on" and since is not None:
            found.append((since + WRITTEN_OF_PAUSE_NS, at_ns))
            since = None
    if since is not None:
        found.append((since + WRITTEN_OF_PAUSE_NS, FOREVER_NS))
    return [(start, end) for start, end in found if end > start]
