"""What processes need in memory, as Linux counts it (proc(5), smaps_rollup)."""

from pathlib import Path

from kettle_core.errors import KettleError


def pss_bytes(pid: int) -> int:
    """A process's share: what it has alone, and its part of what others have too; 0 if it is gone.

    The code of libraries counts less the more processes use it just then.
    """
    return _counted(pid).get("Pss", 0)


def own_bytes(pid: int) -> int:
    """What a process has made for itself, without files that are mapped, as libraries are.

    Raises
    ------
    KettleError
        If it can't be measured here, or the process has gone.
    """
    try:
        counted = _counted(pid)
        return counted["Pss_Anon"] + counted["Pss_Shmem"]
    except KeyError as error:
        raise KettleError("Memory can't be measured here.") from error


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
