"""What commands that write files have in common: targets that are left alone, ways to give way."""

import sys
from pathlib import Path

from kettle_cli.paths import DATA
from kettle_core.errors import KettleError
from kettle_engine.taking import GivingWay


def check_new(path: Path, replace: bool) -> None:
    """Refuse a target that exists, unless it is to be replaced, or has no folder."""
    if not path.parent.is_dir():
        raise KettleError(f"The folder {path.parent} is not there; make it first.")
    if path.exists() and not replace:
        raise KettleError(f"{path} exists and was left alone; add --replace to replace it.")


def check_program(path: Path, replace: bool) -> None:
    """Refuse what is no new MP4."""
    if path.suffix != ".mp4":
        raise KettleError(f"The program is written as .mp4; {path} has another ending.")
    check_new(path, replace)


def giving_way() -> GivingWay:
    """Long work waits while the engine of the same data records."""

    def say(waiting: bool) -> None:
        told = "Waits for the take that is recorded …" if waiting else "Goes on."
        print(told, file=sys.stderr, flush=True)

    return GivingWay(DATA, say)
