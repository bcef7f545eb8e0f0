"""Recorders whose take is over: ended if they do not end by themselves, and never waited for."""

import math
import shutil
import threading
import time
from dataclasses import dataclass
from pathlib import Path

from kettle_engine.processes import Child

# A recorder that is given up may take so long to end.
GIVE_UP_LIMIT_S = 2.0


@dataclass(frozen=True)
class _Leaving:
    """When it is ended, and the folder of a take that was given up, which goes with it."""

    recorder: Child
    until_s: float = math.inf
    gone: Path | None = None


class Leaving:
    """Those that have told of their end, or were given up; a slow disk may keep one for a while."""

    def __init__(self) -> None:
        self._all: list[_Leaving] = []

    @property
    def recorders(self) -> list[Child]:
        """Their processes."""
        return [left.recorder for left in self._all]

    @property
    def have_given_up(self) -> bool:
        """Whether one is still there whose take was given up: it may write where that lay."""
        return any(left.gone for left in self._all)

    def add(self, recorder: Child) -> None:
        """One that has told of its take's end."""
        self._all.append(_Leaving(recorder))

    def give_up(self, recorder: Child, gone: Path) -> None:
        """One that was told to end at once; its take's folder is removed with it."""
        self._all.append(_Leaving(recorder, time.monotonic() + GIVE_UP_LIMIT_S, gone))

    def tick(self) -> None:
        """End what has had its time."""
        for left in self._all:
            if time.monotonic() > left.until_s and not left.recorder.is_condemned:
                left.recorder.kill()

    def ended(self, recorder: Child) -> None:
        """A recorder's process is over."""
        for left in [x for x in self._all if x.recorder is recorder]:
            self._all.remove(left)
            if left.gone:
                threading.Thread(target=shutil.rmtree, args=(left.gone, True), daemon=True).start()
