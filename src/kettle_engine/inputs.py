"""Which inputs are open: those of a rig, and beside them what pages look at for a while."""

from collections.abc import Iterable
from dataclasses import replace

from kettle_core.rig.devices import DeviceInfo
from kettle_core.rig.rig import Input, Rig, input_of_device
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.protocol import WHOLE, spare_id

# Devices that are in no rig are kept open this long after a page last asked for them.
SPARES_FOR_NS = 5 * NS_PER_S


class InputSet:
    """The rig that is open with its spares. Times in master ns."""

    def __init__(self) -> None:
        self.rig: Rig | None = None
        self.owner = ""
        self.all: list[Input] = []
        self._spares_until_ns = 0

    def open(self, rig: Rig, owner: str, spares_at_ns: int | None) -> None:
        """Have a rig open; spares as well if a time is given at which they were asked for."""
        self.rig, self.owner = rig, owner or self.owner
        if spares_at_ns is not None:
            self._spares_until_ns = spares_at_ns + SPARES_FOR_NS

    def lapse(self, now_ns: int) -> bool:
        """Whether the spares have lapsed just now."""
        if not self._spares_until_ns or now_ns <= self._spares_until_ns:
            return False
        self._spares_until_ns = 0
        return True

    def fill(self, devices: Iterable[DeviceInfo], wanted: frozenset[str]) -> bool:
        """Put together what is to be open; whether that is something else than before."""
        before, self.all = self.all, []
        if self.rig is None:
            return bool(before)
        inputs = [i for i in self.rig.inputs if i.on]
        if self._spares_until_ns:
            used = {i.device for i in self.rig.inputs if i.is_captured}
            for info in devices:
                if info.id not in used and not info.busy:
                    spare = input_of_device(info, spare_id(info.id))
                    inputs.append(replace(spare, recorded=False))
        # A region is drawn on all of a device's picture.
        for item in list(inputs):
            if WHOLE + item.id in wanted and item.looks.crop:
                whole = replace(item.looks, crop=None)
                inputs.append(replace(item, id=WHOLE + item.id, looks=whole, recorded=False))
        self.all = inputs
        return inputs != before

    @property
    def captured(self) -> list[Input]:
        """Those that come from a device."""
        return [i for i in self.all if i.is_captured]

    def has_devices_of(self, rig: Rig) -> bool:
        """Whether another rig has the same inputs from devices as this one."""
        mine = [i for i in self.rig.inputs if i.is_captured] if self.rig else []
        return mine == [i for i in rig.inputs if i.is_captured]
