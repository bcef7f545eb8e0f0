"""Takes as they count now: read from their folders once, and again where one is new."""

import os
from collections import OrderedDict
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from threading import Lock
from typing import Any

from kettle_core.program.afterwards import Afterwards, Recorded
from kettle_core.program.cues import Cue
from kettle_core.program.replay import Replay, replay
from kettle_core.rig.rig import Rig
from kettle_core.timing.ticks import NS_PER_S
from kettle_core.timing.time_map import Source, TimeMap
from kettle_media.survey.early import read_early
from kettle_media.survey.paths import SurveyPaths
from kettle_media.survey.survey import Survey, read_survey
from kettle_media.take.afterwards import read_recorded
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TakeInfo
from kettle_web.models import Take

MOST_KEPT = 400
Span = tuple[float, float]


@dataclass(frozen=True)
class TakeNow:
    """A take as it counts now: what was recorded, what was changed, its pauses closed."""

    folder: TakeFolder
    info: TakeInfo
    was: Recorded
    changed: Afterwards
    said: Replay
    take_time: TimeMap

    @cached_property
    def survey(self) -> Survey | None:
        """What was found when its tracks were looked at; None before that."""
        return read_survey(self.folder, self.info)

    @cached_property
    def seen(self) -> Survey | None:
        """The survey, or what was kept in its place while the take was recorded."""
        return self.survey or read_early(self.folder, self.info)

    @cached_property
    def rig_then(self) -> Rig:
        """The rig as it was recorded."""
        return self.info.rig_values

    @property
    def source(self) -> Source:
        """The take in its own time map."""
        return Source("take", self.info.id)

    @property
    def cues(self) -> tuple[Cue, ...]:
        """The cues that count."""
        return self.changed.cues_now(self.was.cues)

    @cached_property
    def _pieces(self) -> list[tuple[float, float, float]]:
        """(record from, record until, take start) of each piece in s: fast, and exact to a µs."""
        return [
            (
                float(p.from_ns) / NS_PER_S,
                float(p.until_ns) / NS_PER_S,
                float(p.start_ns) / NS_PER_S,
            )
            for p in self.take_time.pieces
        ]

    def seconds(self, at_ns: float) -> float:
        """Take time of a record time; what lies in a pause is where it was closed."""
        at_s = at_ns / NS_PER_S
        for first, until, start in self._pieces:
            if at_s < until:
                return round(start + max(0.0, at_s - first), 4)
        return round(float(self.take_time.length_ns) / NS_PER_S, 4)

    def spans(self, stretches: Iterable[tuple[float, float]]) -> list[Span]:
        """Stretches of record time as they are seen in the take."""
        found: list[Span] = []
        for start_ns, end_ns in stretches:
            a, b = start_ns / NS_PER_S, end_ns / NS_PER_S
            seen = [
                (start + max(a, first) - first, start + min(b, until) - first)
                for first, until, start in self._pieces
                if a < until and b > first
            ]
            if seen:
                # Pauses within are closed: what is left lies in one piece.
                found.append((round(seen[0][0], 4), round(seen[-1][1], 4)))
        return found


# Times of the files that it is read from, the row's document, and what was read.
_Stamp = tuple[tuple[str, int, int, int], ...]
_Kept = tuple[_Stamp, Any, TakeNow]
_kept: OrderedDict[Path, _Kept] = OrderedDict()
_lock = Lock()


def take_now(take: Take) -> TakeNow:
    """A take as it counts now. Raises TakeError if it can't be read."""
    folder = TakeFolder(take.path)
    stamp = _stamp(folder)
    with _lock:
        known = _kept.get(folder.path)
        if known and known[:2] == (stamp, take.document):
            _kept.move_to_end(folder.path)
            return known[2]
    found = _read(folder, take)
    with _lock:
        _kept[folder.path] = stamp, take.document, found
        while len(_kept) > MOST_KEPT:
            _kept.popitem(last=False)
    return found


def _stamp(folder: TakeFolder) -> _Stamp:
    """When what a take is read from was written: files are replaced, or added to."""
    found = []
    for place in (folder.path, SurveyPaths(folder).folder, SurveyPaths(folder, early=True).folder):
        with suppress(OSError), os.scandir(place) as entries:
            for entry in entries:
                if entry.name.endswith((".json", ".jsonl")):
                    at = entry.stat()
                    found.append((entry.path, at.st_mtime_ns, at.st_size, at.st_ino))
    return tuple(sorted(found))


def _read(folder: TakeFolder, take: Take) -> TakeNow:
    info = folder.read_info()
    was, changed = read_recorded(folder, info), take.values
    said = replay(was.rig, changed.cues_now(was.cues))
    take_time = said.take_time(Source("take", info.id), was.length_ns)
    return TakeNow(folder, info, was, changed, said, take_time)
