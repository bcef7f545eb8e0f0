"""What a recorder is told to do, and what it tells of the end."""

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from kettle_core.program.cues import Cue
from kettle_core.rig.rig import Rig
from kettle_engine.devices.report import DeviceFacts

DISK_RESERVE_BYTES = 200_000_000
# Devices deliver late; a little more is recorded so that every track reaches the take's end.
TAIL_NS = 150_000_000


@dataclass(frozen=True)
class Order:
    """What a recorder is to do. `rings` are the files of the rings by input ids.

    `lighter` are modes in words that are less work than an input's own, where there are such.
    `goes_on` is for one that takes the place of one that died; `facts` is what devices say of
    themselves, for where that one had not written it yet; `stop` is when and why the take was
    stopped, if it was; `cues` are all until `told_ns`, which is before its process has begun.
    """

    folder: Path
    rig: Rig
    library: Path
    reserve_bytes: int
    base_ns: int
    start_ns: int
    rings: Mapping[str, str]
    lighter: Mapping[str, str]
    facts: Mapping[str, DeviceFacts]
    told_ns: int
    goes_on: bool = False
    stop: tuple[int, str] | None = None
    cues: tuple[Cue, ...] = ()


@dataclass(frozen=True)
class Ended:
    """How a take ended: complete, or unfinished where even that could not be written."""

    folder: str
    state: str
    notes: tuple[str, ...]
