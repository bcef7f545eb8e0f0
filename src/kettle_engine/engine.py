"""The engine's state and its capture thread: idle, watching, counting down, recording."""

import queue
import threading
from collections.abc import Callable
from concurrent.futures import Future
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, TypeVar

from kettle_core.devices import Driver, Mode
from kettle_core.errors import EngineError, KettleError
from kettle_core.picture import Picture, picture_from_i420
from kettle_core.rig import Rig
from kettle_core.timing import NS_PER_S
from kettle_engine.clock import Clock
from kettle_engine.meter import Meter
from kettle_engine.rack import Delivery, Rack
from kettle_engine.recorder import DISK_RESERVE_BYTES, Recorder, check_room
from kettle_media.take_folder import TakeFolder, TakeInfo

Result = TypeVar("Result")
IDLE, WATCHING, COUNTDOWN, RECORDING, FINISHING = (
    "idle",
    "watching",
    "countdown",
    "recording",
    "finishing",
)
MAX_COUNTDOWN_S = 10
MIN_TAKE_NS = NS_PER_S // 2


@dataclass
class Live:
    """The newest of every input, for pages."""

    rig: Rig
    rack: Rack
    pictures: dict[str, Picture] = field(default_factory=dict)
    numbers: dict[str, int] = field(default_factory=dict)
    meters: dict[str, Meter] = field(default_factory=dict)


class Engine:
    """One thread reads the devices; commands run in it, between two deliveries."""

    def __init__(
        self, driver: Driver, clock: Clock, reserve_bytes: int = DISK_RESERVE_BYTES
    ) -> None:
        self.clock = clock
        self.live: Live | None = None
        self.last_take: dict[str, Any] | None = None
        self._driver = driver
        self._reserve_bytes = reserve_bytes
        self._recorder: Recorder | None = None
        self._finishing: threading.Thread | None = None
        self._start_ns: int | None = None
        self._wanted: tuple[Path, Rig] | None = None
        self._calls: queue.SimpleQueue[tuple[Callable[[], Any], Future[Any]]] = queue.SimpleQueue()
        self._quit = threading.Event()
        self._thread = threading.Thread(target=self._run, name="capture", daemon=True)
        self._thread.start()

    def call(self, command: Callable[[], Result]) -> Result:
        """Run a command in the capture thread and give its result or raise its error."""
        future: Future[Result] = Future()
        self._calls.put((command, future))
        return future.result(timeout=10)

    def close(self) -> None:
        """Finish a running take, let devices go and end the thread."""
        self.call(self._stop_for_quit)
        self._quit.set()
        self._thread.join()
        if self._finishing:
            self._finishing.join()

    # what follows runs in the capture thread

    def _run(self) -> None:
        while not self._quit.is_set():
            self._answer_calls(block=self.live is None)
            if self.live is None:
                continue
            self._deliver(self.live, self.live.rack.step())

    def _answer_calls(self, block: bool) -> None:
        try:
            while True:
                command, future = self._calls.get(block=block, timeout=0.1)
                try:
                    future.set_result(command())
                except KettleError as error:
                    future.set_exception(error)
                except Exception as error:
                    future.set_exception(EngineError(f"The engine failed: {error!r}."))
                block = False
        except queue.Empty:
            return

    def _deliver(self, live: Live, delivery: Delivery) -> None:
        name, capture = delivery.input.id, delivery.capture
        if delivery.input.is_picture:
            if capture.changed or name not in live.pictures:
                live.pictures[name] = picture_from_i420(capture.data)  # type: ignore[arg-type]
                live.numbers[name] = capture.no
        else:
            live.meters[name].take(capture.data)  # type: ignore[arg-type]
        if self._start_ns is not None and self._wanted and delivery.master_ns >= self._start_ns:
            self._begin(live, self._start_ns, *self._wanted)
        if self._recorder:
            self._recorder.take(delivery)
            if self._recorder.is_over(delivery.master_ns):
                self._finish(self._recorder)

    def _begin(self, live: Live, start_ns: int, path: Path, rig: Rig) -> None:
        live.rack.worst_late_ns = 0
        for device in live.rack.devices.values():
            device.events()
        try:
            folder = TakeFolder(path)
            self._recorder = Recorder(
                folder, rig, live.rack, start_ns, self.clock.realtime, self._reserve_bytes
            )
        except (KettleError, OSError) as error:
            self.last_take = {"folder": str(path), "state": "failed", "notes": [str(error)]}
        # Only now: in between the state would be neither countdown nor recording.
        self._start_ns = self._wanted = None

    def _finish(self, recorder: Recorder) -> None:
        def finish() -> None:
            info = recorder.finish()
            self.last_take = _ended(recorder.folder, info)

        self._finishing = threading.Thread(target=finish, name="finish take")
        self._finishing.start()
        # Only now: in between the state would be neither recording nor finishing.
        self._recorder = None

    def _stop_for_quit(self) -> None:
        self._start_ns = self._wanted = None
        if self._recorder:
            self._recorder.stop(self.clock.now_ns(), "the engine was ended")
            self._finish(self._recorder)

    # commands; run them by call()

    @property
    def state(self) -> str:
        """What the engine is doing, as one word."""
        if self._recorder:
            return RECORDING
        if self._start_ns is not None:
            return COUNTDOWN
        if self._finishing and self._finishing.is_alive():
            return FINISHING
        return WATCHING if self.live else IDLE

    def open_rig(self, rig: Rig) -> None:
        """Open a rig's devices; one that is open already stays so."""
        if self.live and _devices(self.live.rig) == _devices(rig):
            self.live.rig = rig
            return
        if self.state not in (IDLE, WATCHING):
            raise EngineError("A take is being recorded; stop it before another rig is opened.")
        self.close_rig()
        rack = Rack(self._driver, self.clock, rig.inputs)
        self.live = Live(rig, rack)
        self.live.meters = {
            i.id: Meter(i.mode.sample_rate_hz) for i in rig.inputs if not i.is_picture
        }

    def close_rig(self) -> None:
        """Let the devices go, unless a take needs them."""
        if self.live and self.state in (IDLE, WATCHING):
            self.live.rack.close()
            self.live = None

    def record(self, rig: Rig, path: Path, countdown_s: int) -> None:
        """Count down and record into a new folder."""
        if self.state not in (IDLE, WATCHING):
            raise EngineError("A take is being recorded already; stop it first.")
        if not 0 <= countdown_s <= MAX_COUNTDOWN_S:
            raise EngineError(f"A countdown takes 0 to {MAX_COUNTDOWN_S} s, got {countdown_s} s.")
        self.open_rig(rig)
        folder = TakeFolder.create(path)
        check_room(folder, self._reserve_bytes)
        self.last_take = None
        self._wanted = (path, rig)
        self._start_ns = self.clock.now_ns() + countdown_s * NS_PER_S

    def stop(self) -> str:
        """Stop the take or the countdown; returns what was stopped."""
        before = self.state
        if self._recorder:
            now_ns = max(self.clock.now_ns(), self._recorder.start_master_ns + MIN_TAKE_NS)
            self._recorder.stop(now_ns)
        elif self._start_ns is not None and self._wanted:
            _remove_empty(self._wanted[0])
            self._start_ns = self._wanted = None
        else:
            raise EngineError("Nothing is being recorded, so there is nothing to stop.")
        return before

    def status(self) -> dict[str, Any]:
        """Figures for pages and the command line."""
        now_ns = self.clock.now_ns()
        found: dict[str, Any] = {"state": self.state, "last_take": self.last_take}
        if self._start_ns is not None:
            found["starts_in_s"] = max(0.0, (self._start_ns - now_ns) / NS_PER_S)
        recorder = self._recorder
        if recorder and self.live:
            found["take"] = {
                "folder": str(recorder.folder.path),
                "elapsed_s": max(0.0, (now_ns - recorder.start_master_ns) / NS_PER_S),
                "size_bytes": recorder.size_bytes(),
                "worst_late_ms": self.live.rack.worst_late_ns / 1e6,
                "tracks": {
                    name: {"written": t.written, "dropped": t.dropped, "waiting": t.waiting}
                    for name, t in recorder.tracks.items()
                },
            }
        return found


def _devices(rig: Rig) -> list[tuple[str, str, Mode]]:
    return [(i.id, i.device, i.mode) for i in rig.inputs]


def _ended(folder: TakeFolder, info: TakeInfo) -> dict[str, Any]:
    return {"folder": str(folder.path), "state": info.state, "notes": info.notes}


def _remove_empty(path: Path) -> None:
    (path / "tracks").rmdir()
    path.rmdir()
