"""What processes use of processor and memory, as Linux counts it (see proc(5))."""

import os
from pathlib import Path


def cpu_s(pid: int) -> float:
    """Processor time that a process has used, s."""
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def pss_bytes(pid: int) -> int:
    """A process's share: what it has alone, and its part of what others have too; 0 if it is gone.

    The code of libraries counts less the more processes use it just then.
    """
    return _counted(pid).get("Pss", 0)


def rss_bytes(pid: int) -> int:
    """A process's resident set, whoever else has a part of it; 0 if it is gone.

    To compare a process with itself at another time: the share would change with the others.
    """
    return _counted(pid).get("Rss", 0)


def _counted(pid: int) -> dict[str, int]:
    try:
        rows = Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines()[1:]
    except OSError:
        return {}
    return {row.split(":")[0]: int(row.split()[1]) * 1024 for row in rows}


def with_children(pid: int) -> list[int]:
    """A process and all that it started."""
    try:
        children = Path(f"/proc/{pid}/task/{pid}/children").read_text().split()
    except OSError:
        return [pid]
    return [pid, *(found for child in children for found in with_children(int(child)))]


def stolen_s() -> float:
    """Processor time that this machine wanted and others on the same hardware had, s."""
    try:
        fields = Path("/proc/stat").read_text().partition("\n")[0].split()
    except OSError:
        return 0.0
    return int(fields[8]) / os.sysconf("SC_CLK_TCK")
