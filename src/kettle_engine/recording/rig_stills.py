"""The rig's pictures and text cards, put into a take beside the recording."""

import threading
from pathlib import Path

from kettle_core.errors import KettleError
from kettle_core.rig.rig import Rig
from kettle_media.rig.stills import copy_masks, write_stills
from kettle_media.take.folder import TakeFolder

LONGEST_S = 10.0


class RigStills:
    """Draws and writes them in a thread of its own: devices can't wait for that."""

    def __init__(self, rig: Rig, library: Path, folder: TakeFolder) -> None:
        self._rig, self._library, self._folder = rig, library, folder
        self._thread: threading.Thread | None = None
        self._notes: list[str] = []

    def write(self, at_once: bool) -> None:
        """Begin; `at_once` waits for it, for the virtual clock."""
        self._thread = threading.Thread(target=self._write, name="stills", daemon=True)
        self._thread.start()
        if at_once:
            self._thread.join()

    def notes(self) -> list[str]:
        """What could not be written, once it is done."""
        if self._thread:
            self._thread.join(LONGEST_S)
        return self._notes

    def _write(self) -> None:
        target = self._folder.stills_path
        try:
            stills = {i.id: i for i in self._rig.inputs if i.is_still and i.on}
            missing = write_stills(stills, self._library, target) if stills else ()
            self._notes += [
                f"{stills[name].name}: its picture was not in the library." for name in missing
            ]
            copy_masks(self._rig.scenes, self._library, target)
        except (KettleError, OSError) as error:
            self._notes.append(f"Pictures of the rig are not in the take: {error}.")
