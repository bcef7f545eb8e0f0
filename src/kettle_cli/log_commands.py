"""logs: what the processes said, in the order of time."""

from argparse import Namespace
from collections.abc import Iterator
from heapq import merge
from pathlib import Path

from kettle_cli.paths import DATA
from kettle_core.errors import KettleError


def logs(options: Namespace) -> int:
    """Print what engine, web and workers said last, in the order of time."""
    folder = DATA / "logs"
    files = sorted(folder.glob(f"{options.process or '*'}.log"))
    if not files:
        known = ", ".join(sorted(p.stem for p in folder.glob("*.log"))) or "none yet"
        what = f"of “{options.process}”" if options.process else "here"
        raise KettleError(f"There is no log {what}. Processes with one: {known}.")
    lines = [line for _, line in merge(*(_entries(path) for path in files))]
    for line in lines[-options.lines :]:
        print(line)
    return 0


def _entries(path: Path) -> Iterator[tuple[str, str]]:
    """Lines with their times; a line without one belongs to the one before it."""
    stamp = ""
    for line in path.read_text(errors="replace").splitlines():
        if line[:4].isdigit() and line[4:5] == "-":
            stamp = line.partition(" ")[0]
        yield stamp, f"{path.stem:<12} {line}"
