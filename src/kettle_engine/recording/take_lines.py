"""The lines beside a take's tracks: journal, events, cues, health."""

from dataclasses import asdict
from pathlib import Path
from typing import Any

from kettle_core.program.cues import Cue, GoOn, Pause
from kettle_core.rig.devices import Event
from kettle_core.rig.rig import Input
from kettle_media.durable import LineFile
from kettle_media.take.folder import TakeFolder

# What goes on only once it is on the disk waits so long for a disk that takes its time: rings hold
# what comes meanwhile.
PATIENCE_S = 0.25


class TakeLines:
    """Writes what happens in a take, a line each with its record time; never raises."""

    def __init__(self, folder: TakeFolder, at_once: bool) -> None:
        self._journal = LineFile(folder.journal_path, at_once)
        self._events = LineFile(folder.path / "events.jsonl", at_once)
        self._cues = LineFile(folder.cues_path, at_once)
        self._health = LineFile(folder.path / "health.jsonl", at_once)
        self._files = (self._journal, self._events, self._cues, self._health)

    @property
    def paths(self) -> tuple[Path, ...]:
        """The files."""
        return tuple(file.path for file in self._files)

    def note(self, what: str, at_ns: int, before_it: bool = False, **values: Any) -> None:
        """A line of the journal; `before_it` has it on the disk before what it tells goes on."""
        self._journal.write({"at_ns": at_ns, "what": what, **values}, PATIENCE_S * before_it)

    def cue(self, cue: Cue) -> None:
        """A cue. What a pause leaves out is left out only once that is on the disk."""
        self._cues.write(asdict(cue), PATIENCE_S * isinstance(cue, Pause | GoOn))

    def health(self, values: dict[str, Any]) -> None:
        """How the machine keeps up."""
        self._health.write(values)

    def event(self, item: Input, event: Event, at_ns: int) -> tuple[float, float] | None:
        """Write an event in the pixels of the input's picture; gives where it was, if anywhere.

        What lies outside a region is left out.
        """
        if not (item.looks.keys if event.kind == "key" else item.looks.pointer):
            return None
        crop, values = item.looks.crop, dict(event.values)
        if crop and "x" in values:
            values["x"], values["y"] = values["x"] - crop.left, values["y"] - crop.top
            if not (0 <= values["x"] < crop.width and 0 <= values["y"] < crop.height):
                return None
        row = {"at_ns": at_ns, "device_ns": event.device_ns, "input": item.id, "what": event.kind}
        self._events.write({**row, **values})
        return (float(values["x"]), float(values["y"])) if "x" in values else None

    def trouble(self) -> list[str]:
        """Which files can't be written at the moment, in sentences."""
        return [f"{f.path.name} cannot be written: {f.error}." for f in self._files if f.error]

    def close(self) -> list[str]:
        """Write what is left; says what could not be written."""
        for file in self._files:
            file.close()
        return [
            f"{f.lost} lines of {f.path.name} could not be written: {f.error}."
            for f in self._files
            if f.error
        ]
