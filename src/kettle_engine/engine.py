"""The engine's state and its capture thread: idle, watching, counting down, recording."""

import queue
import threading
from collections.abc import Callable
from concurrent.futures import Future
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, TypeVar

from kettle_core.devices import Driver
from kettle_core.errors import EngineError, KettleError, PictureError
from kettle_core.picture import Picture, picture_from_i420
from kettle_core.rig import Input, Rig, input_of_device
from kettle_core.scene import Scene
from kettle_core.timing import NS_PER_S
from kettle_engine.clock import Clock
from kettle_engine.meter import Meter
from kettle_engine.rack import LIVE, OPENING, Delivery, Rack
from kettle_engine.recorder import DISK_RESERVE_BYTES, Recorder, check_room
from kettle_engine.watch import InputState, PictureWatch, source_state
from kettle_media.stills import rgba_to_picture, still_image
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
# Devices that are in no rig are kept open this long after a page last asked for them.
SPARES_FOR_NS = 5 * NS_PER_S
SPARE = "spare-"
STATE_SOUNDS = {"hears": "live", "quiet": "live", "nothing": "fault", "clipping": "look"}


@dataclass(frozen=True)
class Tried:
    """A scene as somebody is about to change it on the drawing table."""

    scene: Scene
    until_s: float


@dataclass(frozen=True)
class Played:
    """A change-over that is played for a page, on the monotonic clock."""

    scene_id: str
    to_id: str
    since_s: float


@dataclass
class Live:
    """The newest of every input, for pages. Spares are devices that the rig does not use."""

    rig: Rig
    rack: Rack
    inputs: dict[str, Input] = field(default_factory=dict)
    pictures: dict[str, Picture] = field(default_factory=dict)
    # Of the newest picture that differs from the one before, and of the newest at all.
    numbers: dict[str, int] = field(default_factory=dict)
    came: dict[str, int] = field(default_factory=dict)
    meters: dict[str, Meter] = field(default_factory=dict)
    watches: dict[str, PictureWatch] = field(default_factory=dict)
    spares_until_ns: int = 0
    owner: str = ""
    tried: dict[str, Tried] = field(default_factory=dict)
    played: Played | None = None

    def tried_scene(self, scene_id: str, now_s: float) -> Scene | None:
        """The scene as it is tried at the moment; `now_s` on the monotonic clock."""
        tried = self.tried.get(scene_id)
        return tried.scene if tried and tried.until_s > now_s else None

    def states(self, now_s: float) -> dict[str, InputState]:
        """How every open input is."""
        found = {}
        for source in list(self.rack.sources.values()):
            for item in source.inputs:
                fault = source_state(source)
                if fault:
                    found[item.id] = fault
                elif watch := self.watches.get(item.id):
                    picture = self.pictures.get(item.id)
                    watch.look(picture, self.came.get(item.id, -1), source, now_s)
                    found[item.id] = watch.state(now_s)
                elif meter := self.meters.get(item.id):
                    heard = meter.state()
                    found[item.id] = InputState(STATE_SOUNDS[heard.word], heard.sentence)
        return found


class Engine:
    """One thread reads the devices; commands run in it, between two deliveries."""

    def __init__(
        self,
        driver: Driver,
        clock: Clock,
        library: Path,
        reserve_bytes: int = DISK_RESERVE_BYTES,
    ) -> None:
        self.clock = clock
        self.library = library
        self.live: Live | None = None
        self.last_take: dict[str, Any] | None = None
        self._driver = driver
        self._reserve_bytes = reserve_bytes
        self._recorder: Recorder | None = None
        self._finishing: threading.Thread | None = None
        self._start_ns: int | None = None
        self._watched: frozenset[str] = frozenset()
        self._wanted: tuple[Path, Rig] | None = None
        self._calls: queue.SimpleQueue[tuple[Callable[[], Any], Future[Any]]] = queue.SimpleQueue()
        self._quit = threading.Event()
        self._thread = threading.Thread(target=self._run, name="capture", daemon=True)
        self._thread.start()

    def call(self, command: Callable[[], Result]) -> Result:
        """Run a command in the capture thread and give its result or raise its error."""
        future: Future[Result] = Future()
        self._calls.put((command, future))
        try:
            return future.result(timeout=10)
        except TimeoutError as error:
            raise EngineError("The engine is busy and did not answer. Try again.") from error

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
            delivery = self.live.rack.step()
            self._note_changes(self.live)
            if delivery:
                self._deliver(self.live, delivery)
            self._tick(self.live)

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

    def _note_changes(self, live: Live) -> None:
        """Tell the take of devices that were lost or are back; forget what they showed."""
        changes, live.rack.changes = live.rack.changes, []
        for change in changes:
            for item in change.source.inputs:
                live.pictures.pop(item.id, None)
                if self._recorder:
                    self._recorder.note(f"device {change.state}", input=item.id)

    def _deliver(self, live: Live, delivery: Delivery) -> None:
        capture = delivery.capture
        for item in delivery.inputs:
            name = item.id
            if not item.is_picture:
                live.meters[name].take(capture.data)  # type: ignore[arg-type]
                continue
            live.came[name] = capture.no
            if capture.changed or name not in live.pictures:
                live.pictures[name] = picture_from_i420(capture.data)  # type: ignore[arg-type]
                live.numbers[name] = capture.no
        if self._recorder:
            self._recorder.take(delivery)

    def _tick(self, live: Live) -> None:
        """What falls due by the clock, whether or not a device delivers."""
        now_ns = self.clock.now_ns()
        if self._start_ns is not None and self._wanted and now_ns >= self._start_ns:
            if live.rack.is_opening():
                self._start_ns = now_ns + MIN_TAKE_NS // 10
                return
            self._begin(live, self._start_ns, *self._wanted)
        if self._recorder:
            self._recorder.check(now_ns)
            if self._recorder.is_over(now_ns):
                self._finish(self._recorder)
        elif live.spares_until_ns and now_ns > live.spares_until_ns:
            live.spares_until_ns = 0
            self._fill(live, live.rig)

    def _begin(self, live: Live, start_ns: int, path: Path, rig: Rig) -> None:
        live.rack.worst_late_ns = 0
        try:
            folder = TakeFolder(path)
            self._recorder = Recorder(
                folder,
                rig,
                live.rack,
                start_ns,
                self.clock.realtime,
                self.library,
                self._reserve_bytes,
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
        self.set_wanted(self._watched)

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

    def open_rig(self, rig: Rig, spares: bool = False, owner: str = "") -> None:
        """Open a rig's devices; those that are open already stay so.

        With `spares` also every device that the rig does not use, for some seconds. `owner`
        says whose rig it is, so that pages of another one can tell.
        """
        if self.state not in (IDLE, WATCHING):
            if self.live and _devices(self.live.rig) == _devices(rig):
                self.live.rig, self.live.tried = rig, {}
                return
            raise EngineError("A take is being recorded; stop it before the inputs are changed.")
        if self.live is None:
            self.live = Live(rig, Rack(self._driver, self.clock))
            self.set_wanted(self._watched)
        self.live.owner = owner or self.live.owner
        if rig != self.live.rig:
            self.live.tried = {}
        if spares:
            self.live.spares_until_ns = self.clock.now_ns() + SPARES_FOR_NS
        self._fill(self.live, rig)

    def _fill(self, live: Live, rig: Rig) -> None:
        inputs = [i for i in rig.inputs if i.on]
        if live.spares_until_ns:
            used = {i.device for i in rig.inputs if i.is_captured}
            for info in self._driver.list_devices():
                if info.id not in used and not info.busy:
                    inputs.append(input_of_device(info, spare_id(info.id)))
        before = live.inputs
        # The publishing thread looks at these: what it looks up is there before it is listed.
        for item in inputs:
            old = before.get(item.id)
            if item.is_still:
                self._show_still(live, item)
            elif old is None or (old.device, old.mode) != (item.device, item.mode):
                live.pictures.pop(item.id, None)
                if item.is_picture:
                    live.watches[item.id] = PictureWatch(item)
                else:
                    live.meters[item.id] = Meter(item)
            elif not item.is_picture:
                live.meters[item.id].input = item
        live.rig, live.inputs = rig, {i.id: i for i in inputs}
        live.rack.set_inputs(inputs)
        for gone in before.keys() - live.inputs.keys():
            for kept in (live.pictures, live.numbers, live.came, live.meters, live.watches):
                kept.pop(gone, None)

    def _show_still(self, live: Live, item: Input) -> None:
        stamp = hash((item.still, item.card, item.mode, item.looks.opacity))
        if live.numbers.get(item.id) == stamp and item.id in live.pictures:
            return
        try:
            live.pictures[item.id] = rgba_to_picture(still_image(item, self.library))
            live.numbers[item.id] = stamp
        except PictureError:
            live.pictures.pop(item.id, None)

    def set_wanted(self, watched: frozenset[str]) -> None:
        """Whose pictures pages look at; those of a take are always wanted."""
        self._watched = watched
        if self.live:
            recorded: set[str] = set()
            if self._recorder or self._start_ns is not None:
                recorded = {i.id for i in self.live.rig.inputs if i.has_track}
            self.live.rack.set_wanted(watched | recorded)

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
        missing = [i.name for i in rig.inputs if i.has_track and self._is_missing(i)]
        if missing:
            names = " and ".join(missing)
            raise EngineError(
                f"{names} cannot be recorded, so nothing was. Plug it in, or turn it off "
                "on the patch sheet."
            )
        folder = TakeFolder.create(path)
        check_room(folder, self._reserve_bytes)
        self.last_take = None
        self._wanted = (path, rig)
        self._start_ns = self.clock.now_ns() + countdown_s * NS_PER_S
        self.set_wanted(self._watched)

    def _is_missing(self, item: Input) -> bool:
        state = self.live.rack.state_of(item) if self.live else ""
        return state not in (LIVE, OPENING)

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

    def device_states(self) -> dict[str, str]:
        """What is seen or heard of every open device, in words, by the device's id."""
        if self.live is None:
            return {}
        states = self.live.states(self.clock.now_ns() / NS_PER_S)
        return {self.live.inputs[name].device: state.words for name, state in states.items()}

    def meter(self, input_id: str) -> Meter:
        """The meter of a sound that is open. Raises EngineError."""
        meter = self.live.meters.get(input_id) if self.live else None
        if meter is None:
            raise EngineError("This input is not open, so it was not heard. Reload the page.")
        return meter

    def status(self) -> dict[str, Any]:
        """Figures for pages and the command line."""
        now_ns = self.clock.now_ns()
        found: dict[str, Any] = {"state": self.state, "last_take": self.last_take}
        if self._start_ns is not None:
            found["starts_in_s"] = max(0.0, (self._start_ns - now_ns) / NS_PER_S)
        if self.live:
            states = self.live.states(now_ns / NS_PER_S)
            found["rig"], found["rig_name"] = self.live.owner, self.live.rig.name
            found["inputs"] = {name: vars(state) for name, state in states.items()}
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


def spare_id(device_id: str) -> str:
    """The name under which a device outside the rig is shown."""
    return SPARE + device_id


def _devices(rig: Rig) -> list[Input]:
    return [i for i in rig.inputs if i.is_captured]


def _ended(folder: TakeFolder, info: TakeInfo) -> dict[str, Any]:
    return {"folder": str(folder.path), "state": info.state, "notes": info.notes}


def _remove_empty(path: Path) -> None:
    (path / "tracks").rmdir()
    path.rmdir()
