"""The process that brings takes into order beside the engine, while nothing is recorded."""

import time
from pathlib import Path

from kettle_core.errors import KettleError, NoRoomError
from kettle_engine.line import Line
from kettle_engine.taking import GivingWay
from kettle_media.priority import WORKS, rank
from kettle_media.roots import root_paths
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import RECORDING
from kettle_media.take.repair import find_unfinished, repair_take

AGAIN_AFTER_S = 2.0
# What gets no further in this time on a slow disk hangs.
REPAIR_LIMIT_S = 600.0


def run_repair(line: Line, data_dir: Path) -> None:
    """Repair what is unfinished now; ends when there is nothing left to do."""
    rank(WORKS)
    give_way = GivingWay(data_dir)
    takes = root_paths(data_dir / "takes").values()
    left = [folder for path in takes for folder in find_unfinished(path)]
    while left:
        for folder in list(left):
            line.beat()
            give_way()
            if _repair(line, folder):
                left.remove(folder)
        if left:
            # Still being ended by its recorder, or without room.
            wait_until = time.monotonic() + AGAIN_AFTER_S
            while time.monotonic() < wait_until:
                line.beat()
                line.receive(0.2)


def _repair(line: Line, folder: TakeFolder) -> bool:
    """Whether nothing is left to do for a take."""

    def tell(done: int, total: int) -> None:
        line.beat()
        line.send_newest("repairing", {"folder": str(folder.path), "done": done, "of": total})

    try:
        if folder.is_held:
            return False
        if folder.read_info().state != RECORDING:
            return True
        with line.beating(REPAIR_LIMIT_S):
            info = repair_take(folder, tell)
        line.send("repaired", {"folder": str(folder.path), "notes": list(info.notes)})
    except NoRoomError as error:
        told = {"folder": str(folder.path), "done": 0, "of": 0, "message": str(error)}
        line.send_newest("repairing", told)
        return False
    except (KettleError, OSError) as error:
        notes = [f"Repair failed: {error}"]
        line.send("repaired", {"folder": str(folder.path), "notes": notes})
    return True
