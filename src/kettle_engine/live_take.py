"""Records one take in real time without pages, by an engine of its own."""

import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from kettle_core.errors import DeviceError, EngineError, TakeError
from kettle_core.rig.rig import Rig
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.engine import Engine
from kettle_engine.protocol import IDLE, WATCHING
from kettle_engine.recording.order import DISK_RESERVE_BYTES
from kettle_engine.rings.places import RingPlaces
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TakeInfo

STEP_S = 0.05


def record_live_take(
    data_dir: Path,
    rig: Rig,
    path: Path,
    duration_ns: int,
    on_progress: Callable[[float], None] = lambda seconds: None,
    reserve_bytes: int = DISK_RESERVE_BYTES,
) -> TakeInfo:
    """Record a rig for a time into a new folder; `data_dir` holds its pictures and material.

    Raises
    ------
    TakeError
        If the folder is not empty, the disk is full or the take's end can't be written.
    DeviceError
        If a device of the rig is not plugged in.
    """
    with tempfile.TemporaryDirectory(prefix="kettle-take-") as name:
        engine = Engine(
            data_dir, places=RingPlaces(Path(name)), reserve_bytes=reserve_bytes, with_pages=False
        )
        try:
            _record(engine, rig, path, duration_ns, on_progress)
        finally:
            engine.close()
    last = engine.last_take or {"state": "failed", "notes": ["The take was not begun."]}
    if last["state"] in ("failed", "unfinished"):
        raise TakeError(" ".join(last["notes"]))
    return TakeFolder(path).read_info()


def _record(
    engine: Engine,
    rig: Rig,
    path: Path,
    duration_ns: int,
    on_progress: Callable[[float], None],
) -> None:
    answers: list[Any] = []
    engine.record(rig, path.resolve(), 0, answers.append)
    while not answers:
        engine.step(STEP_S)
    if isinstance(answers[0], EngineError):
        raise DeviceError(str(answers[0]))
    if answers[0] is not None:
        raise answers[0]
    told_s, stopped = 0, False
    while engine.state not in (IDLE, WATCHING):
        engine.step(STEP_S)
        elapsed_s = engine.elapsed_ns / NS_PER_S
        if int(elapsed_s) > told_s:
            told_s = int(elapsed_s)
            on_progress(min(elapsed_s, duration_ns / NS_PER_S))
        if engine.elapsed_ns >= duration_ns and not stopped:
            stopped = True
            engine.stop(after_ns=duration_ns)
