"""A trial without pages, by an engine of its own."""

import tempfile
import time
from pathlib import Path
from typing import Any

from kettle_core.errors import EngineError, KettleError
from kettle_core.rig.rig import Rig
from kettle_engine.engine import Engine
from kettle_engine.questions import Way
from kettle_engine.rings.places import RingPlaces
from kettle_engine.trial.running import Trial, run_trial

STEP_S, OPEN_LIMIT_S = 0.05, 20.0


def run_alone(data_dir: Path, rig: Rig, tell: Any = lambda done, total: None) -> Trial:
    """Open a rig's devices, try settings on them, let them go. Raises KettleError."""
    with tempfile.TemporaryDirectory(prefix="kettle-trial-") as name:
        engine = Engine(data_dir, places=RingPlaces(Path(name)), with_pages=False)
        try:
            rings = _rings(engine, rig)

            def step(done: int, total: int) -> None:
                engine.step(0.0)
                tell(done, total)

            return run_trial(rig, rings, Path(name) / "frames", step)
        finally:
            engine.close()


def _rings(engine: Engine, rig: Rig) -> dict[str, str]:
    answers: list[Any] = []
    until_s = time.monotonic() + OPEN_LIMIT_S
    while not engine.are_devices_listed and time.monotonic() < until_s:
        engine.step(STEP_S)
    engine.ask_rings(rig, Way(answers.append, time.monotonic_ns() + int(OPEN_LIMIT_S * 1e9)))
    while not answers:
        if time.monotonic() > until_s:
            raise EngineError("The devices did not open in time. Try it once more.")
        engine.step(STEP_S)
    if isinstance(answers[0], KettleError):
        raise answers[0]
    found: dict[str, str] = answers[0]
    return found
