"""Records one take in real time without pages, by an engine of its own."""

import tempfile
import time
from collections.abc import Callable, Sequence
from dataclasses import asdict
from functools import partial
from pathlib import Path
from typing import Any

from kettle_core.errors import DeviceError, EngineError, TakeError
from kettle_core.program.cues import Cue, ToScene
from kettle_core.rig.rig import Rig
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.engine import Engine
from kettle_engine.protocol import IDLE, WATCHING
from kettle_engine.questions import Way
from kettle_engine.recording.order import DISK_RESERVE_BYTES
from kettle_engine.rings.places import RingPlaces
from kettle_engine.take_desk import Asked
from kettle_engine.timed_faults import TimedFault
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TakeInfo

STEP_S = 0.05
FAULT_LIMIT_NS = 5 * NS_PER_S


def record_live_take(
    data_dir: Path,
    rig: Rig,
    path: Path,
    duration_ns: int,
    on_progress: Callable[[float], None] = lambda seconds: None,
    reserve_bytes: int = DISK_RESERVE_BYTES,
    cues: Sequence[Cue] = (),
    faults: Sequence[TimedFault] = (),
) -> TakeInfo:
    """Record a rig for a time into a new folder; `data_dir` holds its pictures and material.

    `cues`, the scene it begins with first, and `faults` of devices are followed at their times.

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
            first = cues[0].scene if cues and isinstance(cues[0], ToScene) else ""
            asked = Asked(rig, path.resolve(), scene=first)
            due: list[tuple[int, Callable[[], object]]] = [
                (cue.at_ns, partial(_cue, engine, cue)) for cue in cues[1:]
            ]
            due += [(fault.at_ns, partial(_fault, engine, fault)) for fault in faults]
            _record(engine, asked, duration_ns, on_progress, sorted(due, key=lambda d: d[0]))
        finally:
            engine.close()
    last = engine.last_take or {"state": "failed", "notes": ["The take was not begun."]}
    if last["state"] in ("failed", "unfinished"):
        raise TakeError(" ".join(last["notes"]))
    return TakeFolder(path).read_info()


def _cue(engine: Engine, cue: Cue) -> None:
    values = {n: v for n, v in asdict(cue).items() if n not in ("do", "at_ns") and v is not None}
    engine.cue(cue.do, values, cue.at_ns)


def _fault(engine: Engine, fault: TimedFault) -> None:
    way = Way(lambda answer: None, time.monotonic_ns() + FAULT_LIMIT_NS)
    name, values = fault.call()
    engine.ask_driver(fault.device, name, values, way)


def _record(
    engine: Engine,
    asked: Asked,
    duration_ns: int,
    on_progress: Callable[[float], None],
    due: list[tuple[int, Callable[[], object]]],
) -> None:
    answers: list[Any] = []
    engine.record(asked, answers.append)
    while not answers:
        engine.step(STEP_S)
    if isinstance(answers[0], EngineError):
        raise DeviceError(str(answers[0]))
    if answers[0] is not None:
        raise answers[0]
    told_s, stopped = 0, False
    while engine.state not in (IDLE, WATCHING):
        engine.step(STEP_S)
        while due and not stopped and engine.elapsed_ns >= min(due[0][0], duration_ns):
            at_ns, do = due.pop(0)
            if at_ns < duration_ns:
                do()
        elapsed_s = engine.elapsed_ns / NS_PER_S
        if int(elapsed_s) > told_s:
            told_s = int(elapsed_s)
            on_progress(min(elapsed_s, duration_ns / NS_PER_S))
        if engine.elapsed_ns >= duration_ns and not stopped:
            stopped = True
            engine.stop(after_ns=duration_ns)
