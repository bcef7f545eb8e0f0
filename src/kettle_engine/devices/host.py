"""A driver's process: opens its devices, reads and stamps them, lays what came into rings."""

import contextlib
import importlib
import time
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from kettle_core.errors import DeviceError, KettleError
from kettle_core.rig.devices import Driver
from kettle_core.rig.rig import Input
from kettle_engine.clock import WallClock
from kettle_engine.devices.rack import Delivery, Rack, Source
from kettle_engine.devices.report import LIVE, DeviceFacts, SourceReport
from kettle_engine.devices.used import UsedPictures
from kettle_engine.line import Line
from kettle_engine.recording.drops import BUSY
from kettle_engine.rings.places import RingPlaces, ring_mode, ring_name
from kettle_engine.rings.ring import RingWriter, make_ring
from kettle_media.account.writing import AccountWriter
from kettle_media.priority import RECORDS, rank

LIST_EVERY_S, TELL_EVERY_S = 0.5, 0.05
# So long a driver may take to begin.
BEGIN_LIMIT_S = 20.0
# So long the last line of a take's account may take when this process ends.
LAST_LINE_S = 1.0
# What may be asked of a driver beside what every driver can do; the studio's faults.
CALLS = ("surroundings", "switch_surrounding", "state", "set_fault", "jump_clock")


def load_driver(factory: str, data_dir: Path) -> Driver:
    """Make a driver of "module:name", which is called with the data folder."""
    module, _, name = factory.partition(":")
    made: Driver = getattr(importlib.import_module(module), name)(data_dir)
    return made


def run_host(line: Line, factory: str, data_dir: Path, places: RingPlaces, base_ns: int) -> None:
    """Be a driver's process until the engine is gone."""
    rank(RECORDS)
    with line.beating(BEGIN_LIMIT_S):
        driver = load_driver(factory, data_dir)
    Host(line, driver, places, WallClock(base_ns)).run()


class Host:
    """One thread reads all devices; the engine's messages are heard between two captures."""

    def __init__(self, line: Line, driver: Driver, places: RingPlaces, clock: WallClock) -> None:
        self._line, self._driver = line, driver
        self._clock = clock
        self._places = places
        self._rack = Rack(driver, clock, prepare=self._make_rings)
        self._used = UsedPictures()
        self._writers: dict[str, RingWriter] = {}
        # By input; to work one out takes longer than to lay a block of sound into it.
        self._names: dict[str, str] = {}
        self._told: object = None
        self._orders = 0
        self._listed: object = None
        self._list_at = self._tell_at = 0.0
        # What came for the take that is recorded, and until when that is told.
        self._account: AccountWriter | None = None
        self._account_until_ns: int | None = None
        self._heard: dict[str, Callable[..., None]] = {
            "inputs": self._set_inputs,
            "wanted": self._rack.set_wanted,
            "account": self._begin_account,
            "account until": self._end_account,
            "call": self._call,
        }

    def run(self) -> None:
        """Read devices until the engine is gone."""
        try:
            self._run()
        finally:
            if self._account:
                self._account.write(self._clock.now_ns())
                self._account.flush(LAST_LINE_S)
            # Who reads the rings need not wait for more.
            for writer in self._writers.values():
                writer.tell(False, 0)

    def _run(self) -> None:
        while True:
            self._line.beat()
            while message := self._line.receive():
                self._heard[message[0]](*message[1:])
            delivery = self._rack.step()
            if delivery:
                self._deliver(delivery)
            if self._account:
                self._keep_account(self._account)
            if self._rack.changes:
                self._rack.changes.clear()
                self._tell_lost()
                self._tell_at = 0.0
            if time.monotonic() >= self._tell_at:
                self._tell()

    def _begin_account(self, folder: Path, who: str, names: tuple[str, ...]) -> None:
        self._account_until_ns = None
        if self._account:
            # Of a take that was given up: nobody asks any more, and its name may be another one's.
            self._account.flush(0.0)
            self._account = None
        # A folder that is gone by now is told by who writes there.
        with contextlib.suppress(OSError):
            self._account = AccountWriter(folder, who, names, self._clock.now_ns())

    def _end_account(self, until_ns: int) -> None:
        self._account_until_ns = until_ns

    def _keep_account(self, account: AccountWriter) -> None:
        """Each second, and once no more can come that is the take's."""
        now_ns = self._clock.now_ns()
        until_ns = self._account_until_ns
        if until_ns is None or now_ns < until_ns:
            account.look(now_ns)
        elif self._rack.next_due_ns() > until_ns:
            account.close(now_ns)
            self._account = None

    def _set_inputs(self, orders: int, inputs: list[Input]) -> None:
        self._orders, self._told = orders, None
        self._rack.set_inputs(inputs)
        self._names = {i.id: ring_name(i) for i in inputs}
        kept = set(self._names.values())
        self._writers = {n: w for n, w in self._writers.items() if n in kept}
        self._used.keep(inputs)

    def _call(self, number: int, name: str, values: Mapping[str, Any], deadline_ns: int) -> None:
        """Do what is asked, unless who asked has given up meanwhile."""
        if time.monotonic_ns() > deadline_ns:
            return
        try:
            if name not in CALLS or not hasattr(self._driver, name):
                raise DeviceError(f"This driver does not know “{name}”.")
            found = getattr(self._driver, name)(**values)
        except KettleError as error:
            self._line.send("answer", number, error)
            return
        self._list_at = 0.0
        self._tell()
        self._line.send("answer", number, found)

    def _make_rings(self, source: Source) -> None:
        for item in source.inputs:
            make_ring(self._places.path(item), ring_mode(item), deep=item.has_track)

    def _writer(self, item: Input) -> RingWriter:
        name = self._names[item.id]
        if name not in self._writers:
            path = self._places.path(item)
            self._writers[name] = RingWriter(path, ring_mode(item), deep=item.has_track)
        return self._writers[name]

    def _deliver(self, delivery: Delivery) -> None:
        capture, source = delivery.capture, delivery.source
        done = set()
        stamps = delivery.stamps
        for item in delivery.inputs:
            name = self._names[item.id]
            if self._account:
                self._account.came(item.id, stamps.no, stamps.master_ns, stamps.restarted)
            if name in done:
                continue
            done.add(name)
            writer = self._writer(item)
            writer.write(
                self._used.of(capture, item) if item.is_picture else capture.data,
                stamps,
                busy=delivery.why == BUSY,
                events=delivery.events,
            )
            writer.tell(source.device is not None, source.due_ns)

    def _tell_lost(self) -> None:
        for source in self._rack.sources.values():
            if source.device is None:
                for item in source.inputs:
                    if self._names[item.id] in self._writers:
                        self._writer(item).tell(False, 0)

    def _tell(self) -> None:
        """Say how the devices are, when that has changed."""
        self._tell_at = time.monotonic() + TELL_EVERY_S
        reports = {}
        for source in self._rack.sources.values():
            facts = None
            if source.device and source.state == LIVE:
                info = source.device.info
                facts = DeviceFacts(info.reported_latency_ms, source.device.truth())
            for item in source.inputs:
                writer = self._writers.get(self._names[item.id])
                ring = str(writer.path) if writer else ""
                reports[item.id] = SourceReport(
                    source.state, source.sentence, source.lost, source.jumped, ring, facts
                )
        if reports != self._told:
            self._told = reports
            self._line.send_newest("sources", self._orders, reports)
        now = time.monotonic()
        if now >= self._list_at:
            self._list_at = now + LIST_EVERY_S
            listed = list(self._driver.list_devices())
            if listed != self._listed:
                self._listed = listed
                self._line.send_newest("devices", listed)
