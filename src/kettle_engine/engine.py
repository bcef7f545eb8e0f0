"""The engine: commands, state, and the guard over the processes that do the work."""

import contextlib
import logging
import multiprocessing.connection
import os
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from kettle_core.errors import EngineError
from kettle_core.program.cues import Cue
from kettle_core.rig.devices import DeviceInfo
from kettle_core.rig.rig import Rig
from kettle_engine.clock import WallClock
from kettle_engine.cueing import PlannedStep, TakeCues
from kettle_engine.devices.registry import known_drivers
from kettle_engine.hosts import Hosts
from kettle_engine.inputs import InputSet
from kettle_engine.machine import machine_status
from kettle_engine.processes import Child
from kettle_engine.protocol import COUNTDOWN, IDLE, IN_TAKE, RECORDING, WATCHING
from kettle_engine.questions import Questions, Reply, Way
from kettle_engine.recording.order import DISK_RESERVE_BYTES, Ended
from kettle_engine.ring_asks import RingAsks
from kettle_engine.rings.places import RingPlaces
from kettle_engine.take_desk import MAX_COUNTDOWN_S, UNFINISHED, Asked, TakeDesk, tracks_of
from kettle_engine.taking import TakingFlag
from kettle_media.take.folder import free_bytes

RUN_VIEWER = "kettle_engine.viewing.viewer:run_viewer"
RUN_REPAIR = "kettle_engine.repairing:run_repair"
VIEWER_SILENT_S, REPAIR_SILENT_S = 10.0, 60.0
STATUS_EVERY_S = 0.2
CLOSE_LIMIT_S = 30.0

log = logging.getLogger("kettle.engine")


class Engine:
    """One thread: `step` hears all processes and lets the clock act; commands come between."""

    def __init__(
        self,
        data_dir: Path,
        *,
        drivers: Mapping[str, str] | None = None,
        places: RingPlaces | None = None,
        reserve_bytes: int = DISK_RESERVE_BYTES,
        with_pages: bool = True,
    ) -> None:
        self.repaired: list[dict[str, Any]] = []
        self._repairing: dict[str, Any] | None = None
        self._data_dir = data_dir
        self._takes = data_dir / "takes"
        self._places = places or RingPlaces(data_dir)
        self._places.clear()
        self._flag = TakingFlag(data_dir)
        clock = WallClock()
        self._clock = clock
        known = known_drivers() if drivers is None else drivers
        self._hosts = Hosts(known, data_dir, self._places, clock.base_ns)
        reserve_bytes = int(os.environ.get("KETTLE_RESERVE_BYTES", reserve_bytes))
        library = data_dir / "pictures"
        self._desk = TakeDesk(
            clock, self._hosts, library, reserve_bytes, self._take_ended, self._tell_of_take
        )
        self._questions = Questions()
        self._inputs = InputSet()
        self._newest_rig: Rig | None = None
        self._states: dict[str, Any] = {}
        self._wanted: frozenset[str] = frozenset()
        self._rings = RingAsks(self._hosts)
        self._looked_s = time.monotonic()
        self._tell_at_s = 0.0
        self._viewer: Child | None = None
        self._repair: Child | None = None
        if with_pages:
            self._viewer = Child(
                "viewer", RUN_VIEWER, lambda: (data_dir, clock.base_ns), VIEWER_SILENT_S
            )
            self._viewer.start()
            self._start_repair()

    # what goes on

    def step(self, timeout_s: float, *more: Any) -> None:
        """Hear the processes, look after them and let the clock act."""
        handles = [h for child in self._children() for h in child.handles]
        multiprocessing.connection.wait([*handles, *more], timeout_s)
        for child in self._children():
            for message in child.messages():
                self._hear(child, *message)
        now_s = time.monotonic()
        elapsed_s, self._looked_s = now_s - self._looked_s, now_s
        for child in self._children():
            self._guard(child, elapsed_s)
        self._tick()
        if now_s >= self._tell_at_s:
            self._tell_at_s = now_s + STATUS_EVERY_S
            self._tell_viewer("engine", self.status())

    def _children(self) -> list[Child]:
        found = [*self._hosts.children.values(), self._viewer, self._repair]
        return [child for child in found if child] + self._desk.recorders

    def _hear(self, child: Child, word: str, *values: Any) -> None:
        if word == "answer":
            self._questions.answer(*values)
        elif host := self._hosts.name_of(child):
            self._hear_host(host, word, *values)
        elif child is self._viewer:
            self._hear_viewer(word, *values)
        elif child is self._repair:
            self._hear_repair(word, values[0])
        else:
            self._desk.hear(child, word, *values)

    def _hear_host(self, name: str, word: str, *values: Any) -> None:
        if word == "devices":
            self._hosts.list_devices(name, values[0])
            self._refill()
        elif word == "sources":
            recorded = {i.id for i in self._inputs.captured if i.has_track}
            for input_id, report in self._hosts.report(name, *values).items():
                if input_id in recorded:
                    self._desk.note(
                        f"device {report.state}", input=input_id, sentence=report.sentence
                    )
            self._tell_viewer("sources", self._hosts.reports)

    def _hear_viewer(self, word: str, *values: Any) -> None:
        if word == "inputs":
            self._states = values[0]
        elif word == "wanted":
            self._wanted = values[0]
            self._refill()
            self._tell_wanted()
        elif word == "unwatched" and not self._rings.wanted:
            self.close_rig()

    def _hear_repair(self, word: str, told: dict[str, Any]) -> None:
        self._repairing = told if word == "repairing" else None
        if word == "repaired":
            self.repaired.append(told)
            log.info("%s: %s", Path(told["folder"]).name, " ".join(told["notes"]))

    def _tick(self) -> None:
        self._questions.expire()
        if self._rings.tick():
            self._tell_wanted()
        self._desk.tick()
        if not self._desk.state and self._inputs.lapse(self._clock.now_ns()):
            self._fill()
        self._flag.put(self.state in (COUNTDOWN, RECORDING))

    # the guard

    def _guard(self, child: Child, elapsed_s: float) -> None:
        """See that a process lives and behaves; start one again that does not."""
        if child.is_alive:
            why = "" if child.is_condemned else child.look(elapsed_s)
            if why:
                log.warning("The process %s %s and is ended.", child.name, why)
                child.kill()
            # One that can't be ended at once has what its successor would need.
            if child.is_alive:
                return
        for message in child.messages():  # what it said last
            self._hear(child, *message)
        status = child.bury()
        if status is not None:
            self._questions.give_up(child)
            self._tell_end(child, status)
        if time.monotonic() >= child.may_start_at:
            self._start_again(child)

    def _tell_end(self, child: Child, status: int) -> None:
        if self._desk.is_leaving(child) or (child is self._repair and status == 0):
            return
        log.warning("The process %s ended by itself (status %s).", child.name, status)
        self._desk.note("process ended", process=child.name, status=status)

    def _start_again(self, child: Child) -> None:
        if child is self._repair and child.exit_status == 0:
            self._repair = None
        elif child is self._repair:
            child.start()
        elif child is self._viewer:
            child.start()
            self._open_in_viewer()
        elif name := self._hosts.name_of(child):
            self._hosts.start_again(name, self._inputs.captured)
            self._tell_wanted()
            self._desk.note("process started again", process=child.name)
        else:
            self._desk.recorder_ended(child)

    def _start_repair(self) -> None:
        if self._repair is None:
            arguments = (self._data_dir,)
            self._repair = Child("repair", RUN_REPAIR, lambda: arguments, REPAIR_SILENT_S)
            self._repair.start()

    def _take_ended(self, ended: Ended) -> None:
        if ended.state == UNFINISHED:
            self._start_repair()
        self._tell_wanted()

    # commands

    @property
    def state(self) -> str:
        """What the engine is doing, as one word."""
        return self._desk.state or (WATCHING if self._inputs.rig else IDLE)

    @property
    def elapsed_ns(self) -> int:
        """How long the take has been recorded; 0 before its beginning."""
        return self._desk.elapsed_ns

    @property
    def last_take(self) -> dict[str, Any] | None:
        """How the last take ended."""
        return self._desk.last_take

    def open_rig(self, rig: Rig, spares: bool = False, owner: str = "") -> None:
        """Open a rig's devices; those that are open already stay so.

        With `spares` also every device that the rig does not use, for some seconds. `owner`
        says whose rig it is, so that pages of another one can tell.
        """
        if self._desk.state:
            if not self._inputs.has_devices_of(rig):
                raise EngineError(IN_TAKE)
            self._inputs.rig = rig
            self._open_in_viewer()
            return
        self._newest_rig = rig
        self._inputs.open(rig, owner, self._clock.now_ns() if spares else None)
        self._fill()

    def close_rig(self) -> None:
        """Let the devices go, unless a take needs them."""
        if self.state == WATCHING:
            self._inputs, self._states = InputSet(), {}
            self._hosts.tell_inputs([])
            self._tell_viewer("close")
            self._places.keep([])

    def record(self, asked: Asked, reply: Reply) -> None:
        """Count down and record into a new folder; `reply` gets None once that is sure."""
        if self._desk.state:
            raise EngineError("A take is being recorded already; stop it first.")
        if not 0 <= asked.countdown_s <= MAX_COUNTDOWN_S:
            raise EngineError(
                f"A countdown takes 0 to {MAX_COUNTDOWN_S} s, got {asked.countdown_s} s."
            )
        if not tracks_of(asked.rig):
            raise EngineError("Nothing would be recorded; give at least one input a track.")
        self.open_rig(asked.rig)
        self._desk.order(asked, reply)
        self._tell_wanted()
        self._desk.tick()

    @property
    def newest_rig(self) -> Rig | None:
        """The rig that is open, or the one that was last."""
        return self._inputs.rig or self._newest_rig

    def ask_rings(self, rig: Rig, way: Way) -> None:
        """Open a rig and answer with the rings of its pictures, once all of them are live.

        For some seconds their pictures come as they do for a take.
        """
        if self._desk.state:
            raise EngineError("A take is being recorded, so nothing was tried. Try it after it.")
        self.open_rig(rig)
        self._rings.ask(rig, way)
        self._tell_wanted()

    def cue(self, what: str, values: Mapping[str, Any], at_ns: int | None = None) -> dict[str, Any]:
        """Keep a cue of the take that is recorded; gives what it has come to. See `TakeDesk`."""
        return self._desk.cue(what, values, at_ns)

    def begin_step(self, step_id: str = "") -> dict[str, Any]:
        """Begin a step of the running order, or the next one, with its scene."""
        return self._desk.begin_step(step_id)

    def set_steps(self, steps: tuple[PlannedStep, ...]) -> None:
        """The running order was changed while a take is recorded."""
        self._desk.set_steps(steps)

    def give_up(self) -> None:
        """End the take and throw away what was recorded of it, or stop the countdown."""
        self._desk.give_up()

    def start_over(self, reply: Reply) -> None:
        """Give the take up and record again, as it was ordered."""
        self.record(self._desk.give_up(), reply)

    def stop(self, reason: str = "stopped", after_ns: int | None = None) -> str:
        """Stop the take, now or at a record time, or the countdown; returns what was stopped."""
        return self._desk.stop(reason, after_ns)

    def ask_driver(self, device_id: str, name: str, values: dict[str, Any], way: Way) -> None:
        """Ask the driver of a device."""
        self._questions.ask(self._hosts.host_of(device_id), name, values, way)

    def ask_viewer(self, name: str, values: dict[str, Any], way: Way) -> None:
        """Ask the viewer. Raises EngineError where there is none."""
        if self._viewer is None:
            raise EngineError("Nothing is shown by this engine.")
        self._questions.ask(self._viewer, name, values, way)

    def devices(self) -> list[DeviceInfo]:
        """Every device that is plugged in, in the order of the drivers."""
        return self._hosts.devices

    def device_words(self) -> dict[str, str]:
        """What is seen or heard of the devices that are open, in words."""
        known = {i.id: i.device for i in self._inputs.captured}
        return {known[n]: s["words"] for n, s in self._states.items() if n in known}

    @property
    def are_devices_listed(self) -> bool:
        """Whether every driver has said what is plugged in."""
        return self._hosts.all_have_listed

    def status(self) -> dict[str, Any]:
        """Figures for pages and the command line."""
        found = {"state": self.state, **self._desk.status()}
        if self._repairing:
            found["repairing"] = self._repairing
        if self._inputs.rig:
            found["rig"], found["rig_name"] = self._inputs.owner, self._inputs.rig.name
            found["inputs"] = self._states
        with contextlib.suppress(OSError):
            found |= machine_status(free_bytes(self._takes))
        return found

    def pids(self) -> dict[str, int]:
        """The processes by their names, those that have been begun."""
        return {child.name: child.pid for child in self._children() if child.pid}

    def close(self) -> None:
        """Finish a running take, let devices go and end all processes."""
        if self.state in (COUNTDOWN, RECORDING):
            self.stop("the engine was ended")
        deadline_s = time.monotonic() + CLOSE_LIMIT_S
        while self._desk.state and time.monotonic() < deadline_s:
            self.step(0.1)
        children = self._children()
        for child in children:
            child.leave()
        for child in children:
            if not child.wait(3):
                child.kill()
                child.wait(2)
            child.bury()
        self._flag.close()
        self._places.clear()

    # what the processes are told

    def _fill(self) -> None:
        """Have the devices of all inputs open, and no others."""
        self._inputs.fill(self._hosts.devices, self._wanted)
        self._hosts.tell_inputs(self._inputs.captured)
        self._tell_wanted()
        self._open_in_viewer()
        self._places.keep(self._inputs.captured)

    def _refill(self) -> None:
        """Open what pages have come to look at beside the rig."""
        before = self._inputs.all
        if self._inputs.rig and self._inputs.fill(self._hosts.devices, self._wanted) and before:
            self._hosts.tell_inputs(self._inputs.captured)
            self._tell_wanted()
            self._open_in_viewer()

    def _tell_wanted(self) -> None:
        """Say whose pictures are needed as they come, for takes and trials, and whose for eyes."""
        recorded = frozenset(
            i.id for i in self._inputs.captured if i.has_track and self._desk.state
        )
        self._hosts.tell_wanted(recorded | self._rings.wanted, self._wanted)

    def _open_in_viewer(self) -> None:
        if self._inputs.rig:
            self._tell_viewer("open", self._inputs.rig, self._inputs.all, self._inputs.owner)
            self._tell_viewer("sources", self._hosts.reports)
            self._tell_viewer("engine", self.status())
            self._tell_of_take("cues", self._desk.cues_now())

    def _tell_of_take(self, what: str, value: TakeCues | Cue | None) -> None:
        # Each one, as a cue changes what those before it have come to.
        if self._viewer:
            self._viewer.send(what, value)

    def _tell_viewer(self, *message: Any) -> None:
        if self._viewer:
            self._viewer.send_newest(*message)
