"""What take.json says, as values: read, checked and written here and nowhere else."""

import json
import uuid
from collections.abc import Mapping
from dataclasses import dataclass, field, fields, replace
from functools import cache
from pathlib import Path
from typing import Any

from kettle_core.errors import TakeError
from kettle_core.rig.devices import PICTURE_KINDS, Mode
from kettle_core.rig.rig import Rig
from kettle_media.rig_document import mode_from_dict, mode_to_dict, rig_from_dict

FORMAT_NAME = "vast-kettle-take"
SCHEMA_PATH = Path(__file__).parents[1] / "schemas" / "take.schema.json"
RECORDING, COMPLETE, REPAIRED = "recording", "complete", "repaired"
# It ended as it should, but of what came not all is there, or told as lost.
INCOMPLETE = "incomplete"


@dataclass(frozen=True)
class TrackInfo:
    """One track of a take.

    `file` is its Matroska file below the take's folder. `reported_latency_ms` is what the driver
    says of the time from capture to delivery, None where it does not know; `truth` what a
    simulated device's clock really is. `damaged` says why a repair could not save it.
    """

    name: str
    title: str
    kind: str
    file: str
    codec: str
    mode: Mode
    reported_latency_ms: float | None = None
    truth: Mapping[str, Any] | None = None
    damaged: str = ""

    @property
    def is_picture(self) -> bool:
        """Whether it is seen."""
        return self.kind in PICTURE_KINDS

    def to_dict(self) -> dict[str, Any]:
        """As it stands in take.json."""
        row = {**vars(self), "mode": mode_to_dict(self.mode)}
        if not self.damaged:
            del row["damaged"]
        return row


@dataclass(frozen=True)
class TakeInfo:
    """A take. Times are master ns; `duration_ns` is None while recording.

    `id` is a UUID that stays with the take wherever its folder is copied to.
    """

    name: str
    rig: dict[str, Any]
    started_at: str
    start_master_ns: int
    tracks: tuple[TrackInfo, ...]
    state: str = RECORDING
    duration_ns: int | None = None
    ended_because: str = ""
    engine_pid: int = 0
    notes: tuple[str, ...] = ()
    id: str = field(default_factory=lambda: str(uuid.uuid4()))

    def track(self, name: str) -> TrackInfo:
        """A track by its name. Raises TakeError if there is none."""
        for track in self.tracks:
            if track.name == name:
                return track
        raise TakeError(f"{self.name} has no track {name}.")

    @property
    def damaged(self) -> frozenset[str]:
        """Names of the tracks that a repair could not save."""
        return frozenset(track.name for track in self.tracks if track.damaged)

    @property
    def rig_values(self) -> Rig:
        """The rig as it was recorded."""
        return rig_from_dict(self.rig)

    def to_json(self) -> str:
        """The text of take.json."""
        row: dict[str, Any] = {"format": FORMAT_NAME, "version": 1, **vars(self)}
        row["tracks"] = [track.to_dict() for track in self.tracks]
        row["notes"] = list(self.notes)
        return json.dumps(row, indent=1)


@cache
def _validator() -> Any:
    import jsonschema  # a quarter of a second to import

    return jsonschema.Draft202012Validator(json.loads(SCHEMA_PATH.read_text()))


def take_from_json(text: str, where: str) -> TakeInfo:
    """Read and check take.json; the id of a take from before there were ids is empty.

    Parameters
    ----------
    text : str, the file
    where : str, its path, for messages

    Raises
    ------
    TakeError
        If it is no take's, or damaged.
    """
    try:
        data = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise TakeError(f"{where} cannot be read: {error}.") from error
    fault = next(iter(_validator().iter_errors(data)), None)
    if fault:
        place = "/".join(str(p) for p in fault.absolute_path) or "take.json"
        raise TakeError(f"{where} is damaged at {place}: {fault.message:.120}.")
    known = {f.name for f in fields(TakeInfo)}
    values = {name: value for name, value in data.items() if name in known}
    values["tracks"] = tuple(
        TrackInfo(**{**row, "mode": mode_from_dict(row["mode"])}) for row in data["tracks"]
    )
    values["notes"] = tuple(data["notes"])
    values.setdefault("id", "")
    return TakeInfo(**values)


def with_notes(info: TakeInfo, *notes: str) -> TakeInfo:
    """A take with more notes."""
    return replace(info, notes=(*info.notes, *notes))


def with_id(info: TakeInfo) -> TakeInfo:
    """A take with an id; the one it has stays."""
    return info if info.id else replace(info, id=str(uuid.uuid4()))


def with_damage(info: TakeInfo, damaged: Mapping[str, str]) -> TakeInfo:
    """A take whose tracks, by their names, say why they could not be saved."""
    tracks = tuple(replace(t, damaged=damaged.get(t.name, t.damaged)) for t in info.tracks)
    return replace(info, tracks=tracks)
