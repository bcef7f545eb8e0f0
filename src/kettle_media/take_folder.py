"""A take on disk: its folder, take.json, and what lies beside it (docs/take-format.md)."""

import json
import os
from collections.abc import Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from typing import Any

import jsonschema

from kettle_core.devices import Mode
from kettle_core.errors import TakeError
from kettle_core.rig import Rig
from kettle_core.rig_data import rig_from_dict
from kettle_core.sound.routing import SoundTrack

FORMAT_NAME = "vast-kettle-take"
SCHEMA_PATH = Path(__file__).parent / "schemas" / "take.schema.json"
RECORDING, COMPLETE, REPAIRED = "recording", "complete", "repaired"


@dataclass
class TakeInfo:
    """What take.json says. Times are master ns; `duration_ns` is None while recording."""

    name: str
    rig: dict[str, Any]
    started_at: str
    start_master_ns: int
    tracks: list[dict[str, Any]]
    state: str = RECORDING
    duration_ns: int | None = None
    ended_because: str = ""
    engine_pid: int = 0
    notes: list[str] = field(default_factory=list)
    version: int = 1
    format: str = FORMAT_NAME


class TakeFolder:
    """Paths and files of one take."""

    def __init__(self, path: Path) -> None:
        self.path = path

    @classmethod
    def create(cls, path: Path) -> "TakeFolder":
        """Make a new folder for a take. Raises TakeError if something is there already."""
        if path.exists() and (not path.is_dir() or any(path.iterdir())):
            raise TakeError(
                f"{path} exists and is not empty; nothing was written. "
                "Choose a new folder or empty this one."
            )
        try:
            (path / "tracks").mkdir(parents=True)
        except OSError as error:
            raise TakeError(f"The folder {path} cannot be made: {error.strerror}.") from error
        return cls(path)

    @property
    def program_path(self) -> Path:
        """The composed program."""
        return self.path / "program.mp4"

    @property
    def sounds_path(self) -> Path:
        """The sound tracks of the rig, cleaned and mixed, by their ids."""
        return self.path / "sounds"

    def sound_path(self, track: SoundTrack) -> Path:
        """The file of a sound track of the rig."""
        return self.sounds_path / f"{track.id}.flac"

    @property
    def stills_path(self) -> Path:
        """Pictures and text cards as they were in the rig, by input id."""
        return self.path / "stills"

    def track_path(self, track: Mapping[str, Any]) -> Path:
        """The Matroska file of a track."""
        return self.path / str(track["file"])

    def times_path(self, track: Mapping[str, Any]) -> Path:
        """The sidecar of a track."""
        return self.track_path(track).with_suffix(".times.csv")

    def playable_path(self, track: Mapping[str, Any]) -> Path:
        """The rewrapped copy of a track that every player opens."""
        suffix = ".mp4" if is_picture(track) else ".flac"
        return self.path / "playable" / (str(track["name"]) + suffix)

    def write_info(self, info: TakeInfo) -> None:
        """Replace take.json as a whole, never half."""
        target = self.path / "take.json"
        fresh = target.with_suffix(".json.new")
        with fresh.open("w") as file:
            json.dump(vars(info), file, indent=1)
            file.flush()
            os.fsync(file.fileno())
        fresh.replace(target)

    def read_info(self) -> TakeInfo:
        """Read and check take.json. Raises TakeError."""
        target = self.path / "take.json"
        try:
            data = json.loads(target.read_text())
        except FileNotFoundError as error:
            raise TakeError(
                f"{self.path} is not a take: it has no take.json. Name the folder of a take."
            ) from error
        except (OSError, ValueError, RecursionError) as error:
            raise TakeError(f"{target} cannot be read: {error}.") from error
        schema = json.loads(SCHEMA_PATH.read_text())
        try:
            jsonschema.validate(data, schema)
        except jsonschema.ValidationError as error:
            where = "/".join(str(p) for p in error.absolute_path) or "take.json"
            raise TakeError(f"{target} is damaged at {where}: {error.message:.120}.") from error
        return TakeInfo(**data)

    def check_track(self, track: Mapping[str, Any]) -> None:
        """Raise TakeError if a track is damaged or a file of it is missing or empty."""
        if "damaged" in track:
            raise TakeError(str(track["damaged"]))
        for path in (self.track_path(track), self.times_path(track)):
            if not path.is_file() or path.stat().st_size == 0:
                raise TakeError(
                    f"The track {track['name']} of {self.path.name} lacks its file {path.name}. "
                    f"Put the file back, or compose with --without {track['name']}."
                )


def damaged_tracks(info: TakeInfo) -> frozenset[str]:
    """Names of the tracks that a repair could not save."""
    return frozenset(track["name"] for track in info.tracks if "damaged" in track)


def is_picture(track: Mapping[str, Any]) -> bool:
    """Whether a track of take.json is seen."""
    return "width" in track["mode"]


def track_mode(track: Mapping[str, Any]) -> Mode:
    """The mode a track was recorded in."""
    info = dict(track["mode"])
    if "fps" in info:
        info["fps"] = Fraction(info["fps"])
    return Mode(**info)


def take_rig(info: TakeInfo) -> Rig:
    """The rig as it was recorded."""
    return rig_from_dict(info.rig)


def append_line(path: Path, values: Mapping[str, Any]) -> None:
    """Append one JSON line to a take's events, cues or journal."""
    with path.open("a") as file:
        file.write(json.dumps(values, ensure_ascii=False) + "\n")


def free_bytes(path: Path) -> int:
    """Room left on the disk that holds a path."""
    found = path
    while not found.exists():
        found = found.parent
    state = os.statvfs(found)
    return state.f_bavail * state.f_frsize
