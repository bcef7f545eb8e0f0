"""A take from its order to its end, as the engine leads it."""

import contextlib
import shutil
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from kettle_core.errors import EngineError, KettleError
from kettle_core.program.cues import Cue
from kettle_core.rig.devices import DeviceInfo
from kettle_core.rig.rig import Input, Rig
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.clock import WallClock
from kettle_engine.cueing import Cueing, PlannedStep, TakeCues
from kettle_engine.devices.report import LIVE, OPENING
from kettle_engine.hosts import Hosts
from kettle_engine.leaving import Leaving
from kettle_engine.processes import Child
from kettle_engine.protocol import COUNTDOWN, FINISHING, RECORDING
from kettle_engine.questions import Reply
from kettle_engine.recording.drops import away_in_words
from kettle_engine.recording.order import DISK_RESERVE_BYTES, TAIL_NS, Ended, Order
from kettle_engine.recording.room import Room
from kettle_media.take.folder import TakeFolder, check_room

RUN_RECORDER = "kettle_engine.recording.process:run_recorder"
SILENT_LIMIT_S, MOST_BYTES = 30.0, 2_000_000_000
MAX_COUNTDOWN_S = 10
MIN_TAKE_NS = NS_PER_S // 2
# Rings keep what came for a while; a recorder that is ready later begins with what is there.
READY_WITHIN_NS = 500_000_000
# So long an order waits for devices that open, and for drivers that have said nothing yet: one that
# has just been started may need a while on a busy machine.
OPENING_LIMIT_S, REPORT_LIMIT_S = 3.0, 15.0
# A recorder that dies more often than this in one take is not started again.
MOST_RECORDERS = 20
GIVEN_UP, FAILED, UNFINISHED = "given up", "failed", "unfinished"


@dataclass(frozen=True)
class Asked:
    """A take as it is asked for: of a rig, into a new folder, beginning with a scene.

    `scene` is a name or an id; the rig's choice without one. `steps` is the running order.
    """

    rig: Rig
    path: Path
    countdown_s: int = 0
    scene: str = ""
    steps: tuple[PlannedStep, ...] = ()
    first_step: str = ""


@dataclass
class _Wanted:
    """What was asked for."""

    asked: Asked

    @property
    def rig(self) -> Rig:
        """What is recorded."""
        return self.asked.rig

    @property
    def path(self) -> Path:
        """Where to."""
        return self.asked.path


@dataclass
class Ordered(_Wanted):
    """A take that has been ordered; it begins to be one when its devices have spoken."""

    start_ns: int
    reply: Reply
    asked_s: float


@dataclass
class Taking(_Wanted):
    """A take that is counted down, recorded or ended."""

    start_ns: int
    recorder: Child
    cueing: Cueing
    ready: bool = False
    begun: bool = False
    stop: tuple[int, str] | None = None
    status: dict[str, Any] = field(default_factory=dict)
    # Devices that are not there, since when in record time.
    away: dict[str, int] = field(default_factory=dict)

    @property
    def pointers(self) -> dict[str, tuple[float, float]]:
        """Where each pointer was last, in px of its input's picture."""
        return {name: (x, y) for name, (x, y) in self.status.get("pointers", {}).items()}


class TakeDesk:
    """Leads one take at a time. `on_end` hears how each ended."""

    def __init__(
        self,
        clock: WallClock,
        hosts: Hosts,
        library: Path,
        reserve_bytes: int,
        on_end: Callable[[Ended], None],
        tell: Callable[[str, TakeCues | Cue | None], None] = lambda what, value: None,
    ) -> None:
        self.last_take: dict[str, Any] | None = None
        self._clock, self._hosts = clock, hosts
        self._library, self._reserve_bytes = library, reserve_bytes
        self._on_end, self._tell = on_end, tell
        self._ordered: Ordered | None = None
        self._taking: Taking | None = None
        self._leaving = Leaving()

    @property
    def state(self) -> str:
        """Countdown, recording or finishing; "" if there is no take."""
        taking = self._taking
        if taking and taking.begun:
            return FINISHING if taking.stop else RECORDING
        return COUNTDOWN if taking or self._ordered else ""

    @property
    def recorders(self) -> list[Child]:
        """The recorder's process, after those that are leaving."""
        taking = [self._taking.recorder] if self._taking else []
        return [*self._leaving.recorders, *taking]

    @property
    def elapsed_ns(self) -> int:
        """How long the take has been recorded; 0 before its beginning."""
        taking = self._taking
        return max(0, self._clock.now_ns() - taking.start_ns) if taking and taking.begun else 0

    def status(self) -> dict[str, Any]:
        """Figures of the take for pages and the command line."""
        taking = self._taking
        found: dict[str, Any] = {"last_take": self.last_take}
        if taking and not taking.begun:
            left_ns = taking.start_ns - self._clock.now_ns()
            found["starts_in_s"] = max(0.0, left_ns / NS_PER_S)
            if waits := self._hosts.waited_for(tracks_of(taking.rig)):
                found["waits_for"] = waits
        elif taking and taking.status:
            found["take"] = {**taking.status, **taking.cueing.status(self.elapsed_ns)}
            found["take"]["away"] = list(taking.away)
            found["take"]["trouble"] = [*self._away_in_words(taking), *taking.status["trouble"]]
        return found

    # what is changed in it

    def cue(self, what: str, values: Mapping[str, Any], at_ns: int | None = None) -> dict[str, Any]:
        """Keep a cue of the take that is recorded, at its time now; gives what it has come to.

        Raises
        ------
        EngineError, RigError
            If nothing is recorded, or the cue can't be followed.
        """
        taking, now_ns = self._recorded(), self.elapsed_ns
        at_ns = now_ns if at_ns is None else min(at_ns, now_ns)
        self._send_cue(taking, taking.cueing.order(what, at_ns, values, taking.pointers))
        return {**taking.cueing.status(now_ns), "at_ns": at_ns}

    def begin_step(self, step_id: str = "") -> dict[str, Any]:
        """Begin a step of the running order, or the next one. Raises EngineError."""
        taking, at_ns = self._recorded(), self.elapsed_ns
        for cue in taking.cueing.begin_step(at_ns, step_id):
            self._send_cue(taking, cue)
        return taking.cueing.status(at_ns)

    def set_steps(self, steps: tuple[PlannedStep, ...]) -> None:
        """The running order is another one from now on."""
        if self._taking:
            self._taking.cueing.steps = steps

    def _recorded(self) -> Taking:
        if self._taking is None or self.state != RECORDING:
            raise EngineError("Nothing is being recorded, so nothing was changed.")
        return self._taking

    def _send_cue(self, taking: Taking, cue: Cue) -> None:
        # A recorder that has died meanwhile gets it with those before.
        taking.recorder.send("cue", cue)
        self._tell("cue", cue)

    def cues_now(self) -> TakeCues | None:
        """What the viewer must know of the take that is recorded."""
        taking = self._taking
        if taking is None or not taking.begun:
            return None
        moments = tuple(taking.cueing.following.moments)
        return TakeCues(taking.start_ns, moments, taking.path)

    def _look_for_devices(self, taking: Taking) -> None:
        """Since when each device of a track is not there."""
        reports, now_ns = self._hosts.reports, self.elapsed_ns
        gone = [
            i.id for i in tracks_of(taking.rig) if i.id in reports and reports[i.id].state != LIVE
        ]
        taking.away = {name: taking.away.get(name, now_ns) for name in gone}

    @staticmethod
    def _away_in_words(taking: Taking) -> list[str]:
        return [
            away_in_words(taking.rig.input(name).name, since_ns, taking.rig.input(name).is_picture)
            for name, since_ns in taking.away.items()
        ]

    def note(self, what: str, **values: Any) -> None:
        """Have a line written into the journal of the take that is recorded."""
        if self._taking and self._taking.begun:
            self._taking.recorder.send("note", what, self._clock.now_ns(), values)

    # its beginning

    def order(self, asked: Asked, reply: Reply) -> None:
        """Order a take; `reply` gets None once it is sure, or an error. Raises RigError."""
        Cueing(asked.rig, asked.scene)  # says if there is no such scene
        start_ns = self._clock.now_ns() + asked.countdown_s * NS_PER_S
        self._ordered = Ordered(asked, start_ns, reply, time.monotonic())

    def tick(self) -> None:
        """What falls due by the clock."""
        self._leaving.tick()
        if self._ordered:
            self._answer_order(self._ordered)
        if self._taking and not self._taking.begun:
            self._begin_when_due(self._taking)
        elif self._taking and not self._taking.stop:
            self._look_for_devices(self._taking)
            if self._taking.cueing.following.is_paused:
                # No cue that ends the pause can be of an earlier time any more.
                self._taking.recorder.send_newest("heard", self._clock.now_ns())

    def _answer_order(self, ordered: Ordered) -> None:
        """Answer who ordered a take, once all its devices have said how they are."""
        reports, recorded = self._hosts.reports, tracks_of(ordered.rig)
        silent = [i for i in recorded if i.id not in reports]
        opening = [i for i in recorded if i.id in reports and reports[i.id].state == OPENING]
        # What a recorder that was given up still writes must not come into a take of its name.
        if self._leaving.have_given_up:
            return
        limit_s = REPORT_LIMIT_S if silent else OPENING_LIMIT_S if opening else 0.0
        if time.monotonic() < ordered.asked_s + limit_s:
            return
        self._ordered = None
        missing = [i for i in recorded if i in silent or self._hosts.is_missing(i)]
        try:
            if missing:
                raise EngineError(self._hosts.not_there(missing))
            self._start_recorder(ordered)
        except (KettleError, OSError) as error:
            ordered.reply(error if isinstance(error, KettleError) else EngineError(str(error)))
            return
        ordered.reply(None)

    def _start_recorder(self, ordered: Ordered) -> None:
        folder = TakeFolder.create(ordered.path)
        try:
            check_room(folder, self._reserve_bytes)
            # Who says how little may stay free knows how long it will do.
            if self._reserve_bytes >= DISK_RESERVE_BYTES:
                Room(ordered.rig, self._reserve_bytes).check(folder)
        except KettleError:
            _remove_unbegun(ordered.path)
            raise
        self.last_take = None
        asked = ordered.asked
        cueing = Cueing(ordered.rig, asked.scene, asked.steps, asked.first_step)

        def arguments() -> tuple[Order]:
            taking = self._taking
            return (
                Order(
                    ordered.path,
                    ordered.rig,
                    self._library,
                    self._reserve_bytes,
                    self._clock.base_ns,
                    taking.start_ns if taking else ordered.start_ns,
                    {name: report.ring for name, report in self._hosts.reports.items()},
                    _lighter_modes(ordered.rig, self._hosts.devices),
                    self._hosts.facts(tracks_of(ordered.rig)),
                    self._clock.now_ns(),
                    goes_on=bool(taking and taking.begun),
                    stop=taking.stop if taking else None,
                    cues=tuple(cueing.cues),
                ),
            )

        recorder = Child("recorder", RUN_RECORDER, arguments, SILENT_LIMIT_S, MOST_BYTES)
        recorder.start()
        self._taking = Taking(ordered.asked, ordered.start_ns, recorder, cueing)

    def _begin_when_due(self, taking: Taking) -> None:
        now_ns = self._clock.now_ns()
        missing = [i for i in tracks_of(taking.rig) if self._hosts.is_missing(i)]
        if missing:
            self._give_up(
                taking, Ended(str(taking.path), FAILED, (self._hosts.not_there(missing),))
            )
            return
        if now_ns < taking.start_ns:
            return
        if self._hosts.waited_for(tracks_of(taking.rig)):
            # Time 0 is when all are there.
            taking.start_ns = now_ns
            return
        if not taking.ready:
            return
        if now_ns - taking.start_ns > READY_WITHIN_NS:
            taking.start_ns = now_ns
        reports = self._hosts.reports
        rings = {i.id: reports[i.id].ring for i in tracks_of(taking.rig)}
        facts = self._hosts.facts(tracks_of(taking.rig))
        # Before anything of it can be recorded.
        self._hosts.begin_account(taking.path, tracks_of(taking.rig))
        taking.begun = taking.recorder.send("begin", taking.start_ns, facts, rings)
        if taking.begun:
            self._tell("cues", self.cues_now())

    # its end

    def stop(self, reason: str, after_ns: int | None = None) -> str:
        """Stop the take, now or at a record time, or the countdown; returns what was stopped."""
        taking, before = self._taking, self.state
        if before == RECORDING and taking:
            at_ns = self._clock.now_ns() if after_ns is None else taking.start_ns + after_ns
            taking.stop = (max(at_ns, taking.start_ns + MIN_TAKE_NS), reason)
            taking.recorder.send("stop", *taking.stop)
            self._hosts.end_account(taking.stop[0] + TAIL_NS)
            return RECORDING
        if before != COUNTDOWN:
            raise EngineError("Nothing is being recorded, so there is nothing to stop.")
        if self._ordered:
            ordered, self._ordered = self._ordered, None
            ordered.reply(EngineError("The countdown was stopped."))
        if taking:
            self._give_up(taking, Ended(str(taking.path), GIVEN_UP, ()))
        return COUNTDOWN

    def give_up(self) -> Asked:
        """End the take, or its countdown, and throw away what was recorded; gives what it was."""
        taking, current = self._taking, self._taking or self._ordered
        if current is None or self.state == FINISHING:
            raise EngineError("Nothing is being recorded, so there is nothing to give up.")
        if taking and taking.begun:
            self._give_up(taking, Ended(str(taking.path), GIVEN_UP, ()))
        else:
            self.stop("given up")
        return current.asked

    def _give_up(self, taking: Taking, ended: Ended) -> None:
        """Throw a take away; its recorder is not waited for."""
        taking.recorder.send("give up")
        gone = taking.path.with_name(f".gone-{taking.path.name}-{time.monotonic_ns()}")
        with contextlib.suppress(OSError):
            taking.path.rename(gone)
        self._leaving.give_up(taking.recorder, gone)
        self._end(taking, ended)

    def hear(self, recorder: Child, word: str, *values: Any) -> None:
        """Hear a recorder."""
        taking = self._taking
        if taking is None or recorder is not taking.recorder:
            return
        if word == "ready":
            taking.ready = True
        elif word == "take":
            taking.status = values[0]
            if taking.begun and not taking.stop:
                followed = taking.cueing.follow_pointers(self.elapsed_ns, taking.pointers)
                if followed:
                    self._send_cue(taking, followed)
        elif word == "ended":
            self._leaving.add(taking.recorder)
            self._end(taking, values[0])

    def is_leaving(self, recorder: Child) -> bool:
        """Whether a recorder has said how its take ended."""
        return recorder in self._leaving.recorders

    def recorder_ended(self, recorder: Child) -> None:
        """Go on with a take whose recorder died."""
        taking = self._taking
        self._leaving.ended(recorder)
        if taking is None or recorder is not taking.recorder:
            return
        if taking.recorder.started > MOST_RECORDERS:
            note = "The recorder ended again and again; what is there is brought into order."
            self._end(taking, Ended(str(taking.path), UNFINISHED, (note,)))
        else:
            taking.ready = False
            taking.recorder.start()

    def _end(self, taking: Taking, ended: Ended) -> None:
        # One that ended by itself was not stopped.
        self._hosts.end_account(self._clock.now_ns())
        self._taking = None
        self._tell("cues", None)
        if ended.state != GIVEN_UP:
            notes = list(ended.notes)
            self.last_take = {"folder": ended.folder, "state": ended.state, "notes": notes}
        if ended.state == FAILED:
            _remove_unbegun(taking.path)
        self._on_end(ended)


def tracks_of(rig: Rig) -> list[Input]:
    """The inputs of a rig that a take records."""
    return [i for i in rig.inputs if i.has_track]


def _lighter_modes(rig: Rig, devices: Sequence[DeviceInfo]) -> dict[str, str]:
    """By input what its device could give that is less work, in words."""
    infos = {info.id: info for info in devices}
    found = {}
    for item in tracks_of(rig):
        info = infos.get(item.device)
        lighter = info.lighter_than(item.mode) if info else None
        if lighter:
            found[item.id] = lighter.in_words()
    return found


def _remove_unbegun(path: Path) -> None:
    """Take away the folder of a take that never began."""
    if not TakeFolder(path).info_path.exists():
        with contextlib.suppress(OSError):
            shutil.rmtree(path)
