"""The open devices of a rig, read one after the other as their frames and blocks fall due."""

import contextlib
import heapq
import itertools
import threading
import time
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import Future
from dataclasses import dataclass, field

import numpy as np

from kettle_core.errors import DeviceError, KettleError
from kettle_core.rig.devices import Capture, Device, DeviceInfo, Driver, Event, Mode
from kettle_core.rig.rig import Input
from kettle_core.timing.ticks import NS_PER_S, frame_to_ns
from kettle_engine.clock import Clock
from kettle_engine.devices.report import FAULT, LIVE, OPENING
from kettle_engine.pace import LEAST_PER_S, every_s
from kettle_engine.recording.drops import BUSY, DEVICE
from kettle_engine.stamps import Stamps

# Drivers queue 32 frames for who asks for it; who comes later finds them overwritten.
OVERWRITTEN_AFTER_NS = 1_000_000_000
# A lost device is asked for again this often.
RETRY_NS = 300_000_000
# A picture that is only looked at is read this often, and one that nobody looks at.
LOOKED_AT_NS, UNWANTED_NS = (int(every_s(n) * NS_PER_S) for n in (16.7, LEAST_PER_S))
# The longest sleep, so that commands need not wait for a slow device.
PATIENCE_NS = 50_000_000
CLOCK_JUMP_NS = 50_000_000
# Over a longer time a rate that varies can't be told from a jump.
STEADY_FOR_NS = 200_000_000
OPENING_NS = 10_000_000
# A device that has not opened by then is told of; it may still come. On a machine that is busy
# with other things the first opening took more than ten seconds.
OPEN_LIMIT_S = 20.0
# So many are opened at once; one that takes longer than this does not keep others waiting.
OPENED_AT_ONCE, SLOW_OPEN_S = 3, 2.0
# A driver in which that many opens hang is not asked for more.
MOST_HANGING = 8


@dataclass
class Source:
    """A device in one mode, with all inputs that use it, and how it is."""

    device_id: str
    mode: Mode
    inputs: tuple[Input, ...]
    place: int = 0
    device: Device | None = None
    state: str = OPENING
    sentence: str = ""
    pending: "Future[Device] | None" = None
    asked_s: float = 0.0
    lost: int = 0
    jumped: int = 0
    restarted: bool = False
    expected: tuple[int, int] | None = None
    # Master time at which it has something to give next.
    due_ns: int = 0

    @property
    def is_picture(self) -> bool:
        """Whether it is seen."""
        return self.inputs[0].is_picture

    @property
    def is_recorded(self) -> bool:
        """Whether an input that uses it has a track."""
        return any(i.has_track for i in self.inputs)

    @property
    def urgency(self) -> tuple[bool, bool, int]:
        """What is recorded is opened before what is only looked at, and sounds, which open at
        once, before pictures.
        """
        return not self.is_recorded, self.is_picture, self.place

    def skip(self, frames: int, frame_ns: int) -> None:
        """Expect what comes after some frames that were not read, unless those are too many."""
        no, device_ns = self.expected or (0, 0)
        skipped_ns = frames * frame_ns
        known = self.expected and skipped_ns < STEADY_FOR_NS
        self.expected = (no + frames, device_ns + skipped_ns) if known else None


@dataclass(frozen=True)
class Delivery:
    """A capture with the master's stamp and the number of frames lost before it.

    `restarted` says that its device times do not go on from those before: the device was
    opened again, or its clock jumped. `events` is what was done on a screen meanwhile, `why`
    who lost frames.
    """

    source: Source
    capture: Capture
    master_ns: int
    lost: int
    restarted: bool = False
    events: Sequence[Event] = ()
    why: str = DEVICE

    @property
    def inputs(self) -> tuple[Input, ...]:
        """Every input that uses the device."""
        return self.source.inputs

    @property
    def stamps(self) -> Stamps:
        """What is told of it to whoever takes it."""
        got = self.capture
        return Stamps(
            got.no,
            got.device_ns,
            got.duration_ns,
            self.master_ns,
            self.lost,
            got.changed,
            self.restarted,
        )


@dataclass(frozen=True)
class Change:
    """A device that was lost, or is back."""

    source: Source
    state: str
    sentence: str


@dataclass(frozen=True)
class _Opening:
    """A device that is being opened."""

    asked_s: float
    device: "Future[Device]"
    is_recorded: bool


@dataclass
class Rack:
    """Keeps a device open for each source of its inputs, and takes up lost ones again.

    On a wall clock devices are opened beside the capture thread, each in a thread of its own:
    one that takes its time must not hold up the others. On a virtual clock opening takes no
    time. `prepare` is called there too, with what will read the device; it may raise.
    """

    driver: Driver
    clock: Clock
    worst_late_ns: int = 0
    prepare: Callable[[Source], None] = lambda source: None
    changes: list[Change] = field(default_factory=list)
    sources: dict[tuple[str, Mode], Source] = field(default_factory=dict)
    _wanted: frozenset[str] | None = None
    _looked_at: frozenset[str] = frozenset()
    _due: list[tuple[int, int, int, Source]] = field(default_factory=list)
    _order: "itertools.count[int]" = field(default_factory=itertools.count)
    _opens: list[_Opening] = field(default_factory=list)

    def set_inputs(self, inputs: Iterable[Input]) -> None:
        """Open what is new, let go of what is not used any more, keep the rest running."""
        groups: dict[tuple[str, Mode], list[Input]] = {}
        for item in inputs:
            if item.is_captured:
                groups.setdefault((item.device, item.mode), []).append(item)
        for key in [k for k in self.sources if k not in groups]:
            self._let_go(self.sources.pop(key))
        # A device is let go of before it is opened in another mode.
        fresh = []
        for key, group in groups.items():
            if key in self.sources:
                self.sources[key].inputs = tuple(group)
            else:
                self.sources[key] = Source(*key, tuple(group))
                fresh.append(self.sources[key])
        for place, key in enumerate(groups):
            self.sources[key].place = place
        for source in sorted(fresh, key=lambda s: s.urgency):
            self._open(source)
        self._plan()

    def set_wanted(
        self, input_ids: frozenset[str] | None, looked_at: frozenset[str] = frozenset()
    ) -> None:
        """Whose pictures are wanted as they come (None: all), and whose are looked at by people.

        Of what is only looked at fewer pictures are read, of others two a second.
        """
        if (input_ids, looked_at) == (self._wanted, self._looked_at):
            return
        before = {key: self._every_ns(s) for key, s in self.sources.items()}
        self._wanted, self._looked_at = input_ids, looked_at
        for key, source in self.sources.items():
            if self._every_ns(source) < before[key] and source.device:
                # What piled up while nobody looked is not wanted now either.
                self._catch_up(source, source.device)
        self._plan()

    def need_all(self) -> None:
        """Raise DeviceError if a device is not there."""
        for source in self.sources.values():
            if source.device is None:
                raise DeviceError(source.sentence, source.state)

    def state_of(self, item: Input) -> str:
        """One word for how an input's device is; "" if it is not in the rack."""
        source = self.sources.get((item.device, item.mode))
        return source.state if source else ""

    def info_of(self, item: Input) -> DeviceInfo | None:
        """What the driver says about an input's device, if it is open."""
        source = self.sources.get((item.device, item.mode))
        return source.device.info if source and source.device else None

    def truth_of(self, item: Input) -> dict[str, float] | None:
        """Where the device is simulated: its true clock."""
        source = self.sources.get((item.device, item.mode))
        return source.device.truth() if source and source.device else None

    def next_due_ns(self) -> int:
        """Master time at which `step` has something to do."""
        return self._due[0][0] if self._due else self.clock.now_ns() + PATIENCE_NS

    def step(self) -> Delivery | None:
        """Wait for what is due next and give it, stamped; None if there was nothing to give."""
        now_ns = self.clock.now_ns()
        due_ns = self.next_due_ns()
        if due_ns > now_ns + PATIENCE_NS and self.clock.realtime:
            self.clock.sleep_until(now_ns + PATIENCE_NS)
            return None
        self.clock.sleep_until(due_ns)
        if not self._due:
            return None
        source = heapq.heappop(self._due)[-1]
        if source.device is None:
            if source.pending is None:
                self._open(self._most_urgent(source))
            elif source.pending.done():
                self._adopt(source, source.pending)
            elif source.state == OPENING and time.monotonic() - source.asked_s > OPEN_LIMIT_S:
                name = source.inputs[0].name
                limit = f"{OPEN_LIMIT_S:.0f} s"
                self._lose(source, FAULT, f"{name} has not opened within {limit}.")
            self._push(source)
            return None
        try:
            delivery = self._read(source, source.device, due_ns)
        except Exception as error:  # a driver's mistake must not end a take of other devices
            self._fail(source, error)
            delivery = None
        self._push(source)
        return delivery

    def close(self) -> None:
        """Let all devices go."""
        for source in self.sources.values():
            self._let_go(source)
        self.sources.clear()
        self._due.clear()

    def _read(self, source: Source, device: Device, due_ns: int) -> Delivery | None:
        _need_mode(device, source.mode)
        master_ns = self.clock.now_ns()
        late_ns = master_ns - due_ns
        lost, why = 0, DEVICE
        if self._every_ns(source):
            frame_ns = frame_to_ns(1, source.mode.fps)
            source.skip(device.skip_to(master_ns - frame_ns), frame_ns)
        elif source.is_picture and late_ns > OVERWRITTEN_AFTER_NS:
            lost, why = device.skip_to(master_ns - OVERWRITTEN_AFTER_NS // 2), BUSY
            source.expected = None
        self.worst_late_ns = max(self.worst_late_ns, late_ns)
        capture = device.read()
        _need_shape(device, capture)
        restarted = source.restarted
        if source.expected:
            no, device_ns = source.expected
            gap = max(0, capture.no - no)
            lost += gap
            if abs(capture.device_ns - device_ns - gap * capture.duration_ns) > CLOCK_JUMP_NS:
                restarted = True
                source.jumped += 1
        source.expected = (capture.no + 1, capture.device_ns + capture.duration_ns)
        source.restarted = False
        source.lost += lost
        events = device.events() if source.inputs[0].is_screen else ()
        return Delivery(source, capture, master_ns, lost, restarted, events, why)

    def _every_ns(self, source: Source) -> int:
        """The least time between two of its captures that are read; 0: all of them are."""
        if self._wanted is None or not source.is_picture:
            return 0
        names = {i.id for i in source.inputs}
        if names & self._wanted:
            return 0
        return LOOKED_AT_NS if names & self._looked_at else UNWANTED_NS

    def _most_urgent(self, source: Source) -> Source:
        """Which is to be opened when one falls due: of those that never were not just any."""
        if source.state != OPENING:
            return source
        waiting = (s for s in self.sources.values() if s.state == OPENING and not s.pending)
        return min(waiting, key=lambda s: s.urgency)

    def _open(self, source: Source) -> None:
        now_s = time.monotonic()
        self._opens = [o for o in self._opens if not o.device.done()]
        quick = [o for o in self._opens if now_s - o.asked_s <= SLOW_OPEN_S]
        if len(self._opens) - len(quick) >= MOST_HANGING:
            self._lose(source, FAULT, "Too many devices hang while they are opened.")
            return
        # What is only looked at does not slow down what a take waits for.
        gives_way = not source.is_recorded and any(o.is_recorded for o in quick)
        if gives_way or len(quick) >= OPENED_AT_ONCE:
            return
        done: Future[Device] = Future()

        def open_it() -> None:
            try:
                self.prepare(source)
                from_ns = self.clock.now_ns()
                device = self.driver.open_device(source.device_id, source.mode, from_ns)
                done.set_result(device)
            except BaseException as error:  # it is raised again where the result is taken
                done.set_exception(error)

        if not self.clock.realtime:
            open_it()
            self._adopt(source, done)
            return
        source.pending, source.asked_s = done, now_s
        self._opens.append(_Opening(now_s, done, source.is_recorded))
        name = f"open {source.device_id}"
        threading.Thread(target=open_it, name=name, daemon=True).start()

    def _adopt(self, source: Source, opened: "Future[Device]") -> None:
        source.pending = None
        try:
            device = opened.result()
            try:
                _need_mode(device, source.mode)
            except DeviceError:
                _close(device)
                raise
            # Opening took its time: the device begins where the clock is now.
            device.skip_to(self.clock.now_ns())
        except Exception as error:  # as in `step`
            self._fail(source, error)
            return
        source.device, source.expected = device, None
        if source.state != OPENING:
            source.restarted = True
            self.changes.append(Change(source, LIVE, f"{device.info.name} is back."))
        source.state, source.sentence = LIVE, ""

    def _catch_up(self, source: Source, device: Device) -> None:
        try:
            device.skip_to(self.clock.now_ns())
            source.expected = None
        except Exception as error:  # as in `step`
            self._fail(source, error)

    def _fail(self, source: Source, error: Exception) -> None:
        if isinstance(error, DeviceError):
            self._lose(source, error.state, str(error))
        elif isinstance(error, KettleError):
            self._lose(source, FAULT, str(error))
        else:
            self._lose(source, FAULT, f"{source.device_id} failed: {error!r}"[:200])

    def _lose(self, source: Source, state: str, sentence: str) -> None:
        _close(source.device)
        source.device = None
        if source.state != state:
            self.changes.append(Change(source, state, sentence))
        source.state, source.sentence = state, sentence

    @staticmethod
    def _let_go(source: Source) -> None:
        _close(source.device)
        source.device = None
        if source.pending:
            source.pending.add_done_callback(_close_unwanted)
            source.pending = None

    def _plan(self) -> None:
        self._due = []
        for source in self.sources.values():
            self._push(source, soon=True)

    def _push(self, source: Source, soon: bool = False) -> None:
        now_ns = self.clock.now_ns()
        if source.device is None:
            soon_too = source.pending or source.state == OPENING
            due_ns = now_ns + (OPENING_NS if soon_too else RETRY_NS)
        else:
            try:
                due_ns = source.device.due_ns()
            except Exception:  # told where it is read
                due_ns = now_ns
            every_ns = self._every_ns(source)
            if every_ns and not soon:
                due_ns = max(due_ns, now_ns + every_ns)
        source.due_ns = due_ns
        heapq.heappush(self._due, (due_ns, source.place, next(self._order), source))


def _need_mode(device: Device, mode: Mode) -> None:
    """Raise DeviceError where a device delivers another mode than it should."""
    if device.mode != mode:
        raise DeviceError(
            f"{device.info.name} gives {device.mode.in_words()} instead of {mode.in_words()}.",
            "changed",
        )


def _need_shape(device: Device, capture: Capture) -> None:
    """Raise DeviceError where a capture is not what its mode says."""
    mode, shape, kind = device.mode, capture.data.shape, capture.data.dtype
    if mode.width:
        fits = shape == (mode.height * 3 // 2, mode.width) and kind == np.uint8
    else:
        fits = len(shape) == 2 and shape[0] == mode.channels and kind == np.float32
    if not fits:
        raise DeviceError(
            f"{device.info.name} gives {kind} of {' × '.join(map(str, shape))}, which is no "
            f"{mode.in_words()}."
        )


def _close(device: Device | None) -> None:
    """Let a device go; one that can't even be closed is left alone."""
    if device:
        with contextlib.suppress(Exception):
            device.close()


def _close_unwanted(opened: "Future[Device]") -> None:
    """A device that nobody wanted any more when it had been opened."""
    if not opened.cancelled() and opened.exception() is None:
        _close(opened.result())
