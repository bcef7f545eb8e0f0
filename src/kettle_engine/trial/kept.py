"""The last trial of a rig on this machine, kept: its points, and the parts that are shown."""

import os
import shutil
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from pathlib import Path

from kettle_core.errors import KettleError
from kettle_core.rig.devices import Mode
from kettle_core.rig.estimate import Measured
from kettle_core.rig.format import TrackFormat
from kettle_core.rig.rig import Rig
from kettle_core.rig.trial import Proposal, TrialPoint, measured
from kettle_engine.trial.running import Trial
from kettle_media.documents import Document
from kettle_media.durable import replace_file
from kettle_media.picture.trial import crop_png

VERSION = 1


@dataclass(frozen=True)
class KeptInput:
    """What was found of an input: its size and rate, and its track's format at that time."""

    input_id: str
    mode: Mode
    track: TrackFormat
    points: tuple[TrialPoint, ...]
    present: int
    proposal: Proposal
    load: float


@dataclass(frozen=True)
class KeptTrial:
    """A trial: when (ISO 8601), on which machine, the head-room of all tracks together."""

    version: int
    at: str
    machine: str
    head_room: float
    inputs: tuple[KeptInput, ...]

    def of(self, input_id: str) -> KeptInput | None:
        """What was found of an input."""
        return next((i for i in self.inputs if i.input_id == input_id), None)


_DOCUMENT: Document[KeptTrial] = Document(KeptTrial, "The trial")


@cache
def machine_name() -> str:
    """The machine by its processor and cores."""
    model = "processor"
    try:
        for line in Path("/proc/cpuinfo").read_text().splitlines():
            if line.startswith("model name"):
                model = line.partition(":")[2].strip()
                break
    except OSError:
        pass
    return f"{model}, {os.cpu_count() or 1} cores"


def as_kept(rig: Rig, trial: Trial, at: datetime) -> KeptTrial:
    """A trial of a rig as it is kept."""
    inputs = tuple(
        KeptInput(
            found.input_id,
            rig.input(found.input_id).used_mode,
            rig.track_of(rig.input(found.input_id)),
            found.points,
            found.present,
            found.proposal,
            found.load,
        )
        for found in trial.inputs
    )
    when = at.isoformat(timespec="seconds")
    return KeptTrial(VERSION, when, machine_name(), trial.head_room, inputs)


def keep_trial(folder: Path, rig: Rig, trial: Trial, at: datetime) -> KeptTrial:
    """Keep a trial in place of the one before. Raises OSError."""
    kept = as_kept(rig, trial, at)
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    for found in trial.inputs:
        for number, part in enumerate(found.crops):
            crop_path(folder, found.input_id, number - 1).write_bytes(crop_png(part))
    replace_file(folder / "trial.json", _DOCUMENT.write(kept).encode())
    return kept


def trial_folder(data_dir: Path, key: str) -> Path:
    """Where the last trial of a rig lies; `key` is its name in the address, or of a rig file."""
    return data_dir / "trials" / key


def read_trial(folder: Path) -> KeptTrial | None:
    """The last trial; None where there is none that can be read."""
    try:
        kept = _DOCUMENT.read((folder / "trial.json").read_bytes())
    except (OSError, KettleError):
        return None
    return kept if kept.version == VERSION else None


def crop_path(folder: Path, input_id: str, number: int) -> Path:
    """The enlarged part of an input after a point; -1 is as it was."""
    return folder / f"{input_id}.{number + 1}.png"


def out_of_date(rig: Rig, kept: KeptTrial) -> list[str]:
    """Why a trial does not tell of a rig as it is now, in sentences."""
    found = []
    if kept.machine != machine_name():
        found.append(f"It was made on another machine ({kept.machine}).")
    for item in rig.inputs:
        if not (item.has_track and item.is_picture):
            continue
        known = kept.of(item.id)
        if known is None:
            found.append(f"{item.name} was not in it.")
        elif known.mode != item.used_mode:
            found.append(f"{item.name} was {known.mode.in_words()} then.")
        elif rig.track_of(item) not in [p.track for p in known.points]:
            found.append(f"The present setting of {item.name} was not tried.")
    return found


def known_bitrates(rig: Rig, kept: KeptTrial | None) -> dict[str, list[Measured]]:
    """What a trial says of bitrates, by input; of those that are as they were then."""
    if kept is None or kept.machine != machine_name():
        return {}
    found = {}
    for item in rig.inputs:
        known = kept.of(item.id)
        if known and known.mode == item.used_mode:
            points = measured(known.track.written(known.mode), known.points)
            if points:
                found[item.id] = points
    return found
