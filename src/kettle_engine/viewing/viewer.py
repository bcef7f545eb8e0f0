"""The viewer's process: what pages see and hear. It gives way to everything else."""

import time
import traceback
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict
from pathlib import Path
from typing import Any

from kettle_core.errors import EngineError, KettleError
from kettle_core.program.cues import Cue
from kettle_core.rig.rig import Input, Rig
from kettle_engine.addresses import live_address
from kettle_engine.clock import WallClock
from kettle_engine.cueing import TakeCues
from kettle_engine.devices.report import SourceReport
from kettle_engine.line import Line
from kettle_engine.process import work_frame_by_frame
from kettle_engine.protocol import IDLE
from kettle_engine.viewing.commands import Commands
from kettle_engine.viewing.live import Live
from kettle_engine.viewing.publisher import CLOSE_AFTER_S, Publisher
from kettle_media.priority import SHOWS, rank

KEPT_BYTES = 256 << 20
STATES_EVERY_S = 0.25
AFTER_FAULT_S = 0.5


def run_viewer(line: Line, data_dir: Path, base_ns: int) -> None:
    """Be the viewer until the engine is gone; `base_ns` is where its clock begins."""
    rank(SHOWS)
    # Composing takes and frees frames all the time.
    work_frame_by_frame(KEPT_BYTES)
    Viewer(line, data_dir, WallClock(base_ns)).run()


class Viewer:
    """One thread reads rings and publishes; commands that take their time run beside it."""

    def __init__(self, line: Line, data_dir: Path, clock: WallClock) -> None:
        self.live: Live | None = None
        self._line, self._clock = line, clock
        self._library = data_dir / "pictures"
        self._engine: dict[str, Any] = {"state": IDLE}
        self._inputs: dict[str, Any] = {}
        self._publisher = Publisher(self, live_address(data_dir), self._library, clock)
        self._commands = Commands(data_dir, self._publisher.feed.identify)
        self._pool = ThreadPoolExecutor(2, "command")
        self._states_at = 0.0
        self._heard: dict[str, Callable[..., None]] = {
            "open": self._open,
            "close": self._close,
            "sources": self._set_sources,
            "engine": self._set_engine,
            "cues": self._set_cues,
            "cue": self._follow,
            "call": self._call,
        }

    def run(self) -> None:
        """Show for ever."""
        while True:
            self._line.beat()
            while message := self._line.receive():
                self._heard[message[0]](*message[1:])
            try:
                if self.live:
                    self.live.read_sounds()
                self._tell_states()
                time.sleep(self._publisher.step())
            except Exception:  # one picture's mistake must not end all that is shown
                traceback.print_exc()
                time.sleep(AFTER_FAULT_S)

    def status(self) -> dict[str, Any]:
        """What pages are told four times a second."""
        return {**self._engine, "inputs": self._inputs}

    def tell_wanted(self, names: frozenset[str]) -> None:
        """Whose pictures are looked at now."""
        self._line.send_newest("wanted", names)

    def _open(self, rig: Rig, inputs: Sequence[Input], owner: str) -> None:
        if self.live is None:
            self.live = Live(self._library, rig)
            self._publisher.feed.forget_wanted()
            # Whoever opened it has had no time to look at it yet.
            self._publisher.watched_at_s = time.monotonic()
        self.live.set_rig(rig, inputs, owner)

    def _close(self) -> None:
        self.live, self._inputs = None, {}

    def _set_sources(self, sources: Mapping[str, SourceReport]) -> None:
        if self.live:
            self.live.set_sources(sources)

    def _set_cues(self, cues: TakeCues | None) -> None:
        if self.live:
            self.live.set_cues(cues)
            # Who pressed a key waits for what it does.
            self._publisher.show_program_now()

    def _follow(self, cue: Cue) -> None:
        if self.live and self.live.cues:
            self._set_cues(self.live.cues.and_then(cue))

    def _set_engine(self, status: dict[str, Any]) -> None:
        self._engine = status

    def _tell_states(self) -> None:
        now_s = time.monotonic()
        if self.live is None or now_s < self._states_at:
            return
        self._states_at = now_s + STATES_EVERY_S
        self.live.look_early(self._clock.now_ns())
        states = {name: asdict(s) for name, s in self.live.states(now_s).items()}
        if states != self._inputs:
            self._inputs = states
            self._line.send_newest("inputs", states)
        if now_s - self._publisher.watched_at_s > CLOSE_AFTER_S:
            self._publisher.watched_at_s = now_s
            self._line.send("unwatched")

    def _call(self, number: int, name: str, values: Mapping[str, Any], deadline_ns: int) -> None:
        def work() -> None:
            # Who asked has given up; nobody would hear the answer.
            if time.monotonic_ns() > deadline_ns:
                return
            self._line.send("answer", number, self._answer(name, values))

        self._pool.submit(work)

    def _answer(self, name: str, values: Mapping[str, Any]) -> Any:
        try:
            return self._commands.do(name, self.live, values)
        except KettleError as error:
            return error
        except (KeyError, TypeError, ValueError) as error:
            return EngineError(f"The engine does not know this command: {error!r}.")
        except Exception as error:
            return EngineError(f"The engine failed: {error!r}.")
