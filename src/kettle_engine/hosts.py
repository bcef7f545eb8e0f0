"""The drivers' processes as the engine sees them: what they are told, and what they tell."""

from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path

from kettle_core.rig.devices import DeviceInfo
from kettle_core.rig.rig import Input
from kettle_engine.devices.registry import driver_of
from kettle_engine.devices.report import LIVE, OPENING, UNPLUGGED, DeviceFacts, SourceReport
from kettle_engine.processes import Child
from kettle_engine.rings.places import RingPlaces, ring_name

RUN_HOST = "kettle_engine.devices.host:run_host"
SILENT_LIMIT_S, STOPPED_LIMIT_S, MOST_BYTES = 4.0, 0.8, 1_500_000_000


class Hosts:
    """One process a driver. `drivers` are factories by name (see `known_drivers`)."""

    def __init__(
        self, drivers: Mapping[str, str], data_dir: Path, places: RingPlaces, base_ns: int
    ) -> None:
        self._drivers = drivers
        self.children = {
            name: Child(
                f"devices {name}",
                RUN_HOST,
                # The factory of this turn, not of the last one.
                lambda factory=factory: (factory, data_dir, places, base_ns),  # type: ignore[misc]
                SILENT_LIMIT_S,
                MOST_BYTES,
                STOPPED_LIMIT_S,
            )
            for name, factory in drivers.items()
        }
        self._reports: dict[str, dict[str, SourceReport]] = {name: {} for name in drivers}
        self._listed: dict[str, list[DeviceInfo]] = {}
        self._orders = 0
        self._settled: dict[str, str] = {}
        # The take whose captures are counted, with the inputs that it records.
        self._account: tuple[Path, list[Input]] | None = None
        for child in self.children.values():
            child.start()

    def name_of(self, child: Child) -> str | None:
        """The driver of a process, if it is one of these."""
        return next((name for name, host in self.children.items() if host is child), None)

    def host_of(self, device_id: str) -> Child:
        """The process that has a device."""
        return self.children[driver_of(device_id, self._drivers)]

    # what they tell

    def list_devices(self, name: str, devices: list[DeviceInfo]) -> None:
        """A driver says what is plugged in."""
        self._listed[name] = devices

    def report(
        self, name: str, orders: int, reports: dict[str, SourceReport]
    ) -> dict[str, SourceReport]:
        """A driver says how its devices are; gives those whose state is another one than before.

        What it says of inputs that it was told of earlier does not count any more.
        """
        if orders != self._orders:
            return {}
        before, self._reports[name] = self._reports[name], reports
        return {n: r for n, r in reports.items() if n in before and before[n].state != r.state}

    @property
    def devices(self) -> list[DeviceInfo]:
        """Every device that is plugged in, in the order of the drivers."""
        return [info for name in self._drivers for info in self._listed.get(name, [])]

    @property
    def all_have_listed(self) -> bool:
        """Whether every driver has said what is plugged in."""
        return self._listed.keys() >= self._drivers.keys()

    @property
    def reports(self) -> dict[str, SourceReport]:
        """How the devices of all inputs are, by input."""
        return {n: r for reports in self._reports.values() for n, r in reports.items()}

    def is_missing(self, item: Input) -> bool:
        """Whether an input's device is known not to be there."""
        report = self.reports.get(item.id)
        return report is not None and report.state not in (LIVE, OPENING)

    def facts(self, inputs: Iterable[Input]) -> dict[str, DeviceFacts]:
        """What the devices of some inputs say of themselves, as far as they do."""
        told = {i.id: self.reports.get(i.id) for i in inputs}
        return {name: r.facts for name, r in told.items() if r and r.facts}

    def waited_for(self, inputs: Iterable[Input]) -> list[str]:
        """Names of those of some inputs that are not live yet."""
        there = {n for n, report in self.reports.items() if report.state == LIVE and report.ring}
        return [i.name for i in inputs if i.id not in there]

    def not_there(self, missing: Sequence[Input]) -> str:
        """What is said where nothing was recorded because some inputs are not there."""
        names = " and ".join(i.name for i in missing)
        reports = self.reports
        faults = [reports[i.id] for i in missing if i.id in reports]
        # Of one that is not plugged in its name says enough.
        why = dict.fromkeys(r.sentence for r in faults if r.state != UNPLUGGED)
        to_do = "See to it" if why else "Plug it in"
        said = (f"{names} cannot be recorded, so nothing was.", *why)
        return " ".join((*said, f"{to_do}, or turn it off on the patch sheet."))

    # what they are told

    def tell_inputs(self, inputs: list[Input]) -> None:
        """Have the devices of some inputs open, and no others."""
        self._orders += 1
        unchanged = {i.id for i in inputs if self._settled.get(i.id) == ring_name(i)}
        for name, child in self.children.items():
            mine = [i for i in inputs if driver_of(i.device, self._drivers) == name]
            kept = {i.id for i in mine} & unchanged
            self._reports[name] = {n: r for n, r in self._reports[name].items() if n in kept}
            child.send("inputs", self._orders, mine)
        self._settled = {i.id: ring_name(i) for i in inputs}

    def tell_wanted(self, input_ids: frozenset[str], looked_at: frozenset[str]) -> None:
        """Say whose pictures are needed as they come, and whose are looked at."""
        for child in self.children.values():
            child.send("wanted", input_ids, looked_at)

    def begin_account(self, folder: Path, inputs: list[Input]) -> None:
        """Have it written down in a take which captures of some inputs come."""
        self._account = (folder, inputs)
        for name in self.children:
            self._tell_account(name)

    def _tell_account(self, name: str) -> None:
        if self._account is None:
            return
        folder, inputs = self._account
        mine = tuple(i.id for i in inputs if driver_of(i.device, self._drivers) == name)
        if mine:
            self.children[name].send("account", folder, name, mine)

    def end_account(self, until_ns: int) -> None:
        """Write down what comes until a master time, and no more."""
        self._account = None
        for child in self.children.values():
            child.send("account until", until_ns)

    def start_again(self, name: str, inputs: list[Input]) -> None:
        """Start a driver's process that has ended."""
        self._reports[name] = {
            n: SourceReport(OPENING, "", r.lost, r.jumped, "", r.facts)
            for n, r in self._reports[name].items()
        }
        self.children[name].start()
        self._tell_account(name)
        self.tell_inputs(inputs)
