"""The open devices of a rig, read one after the other as their frames and blocks fall due."""

import heapq
from collections.abc import Sequence
from dataclasses import dataclass

from kettle_core.devices import Capture, Device, Driver
from kettle_core.rig import Input
from kettle_engine.clock import Clock

# Drivers queue 32 frames for who asks for it; who comes later finds them overwritten.
OVERWRITTEN_AFTER_NS = 1_000_000_000


@dataclass(frozen=True)
class Delivery:
    """A capture with the master's stamp and the number of frames lost before it."""

    input: Input
    capture: Capture
    master_ns: int
    lost: int


class Rack:
    """Opens a device for each input. Raises DeviceError if one is not there."""

    def __init__(self, driver: Driver, clock: Clock, inputs: Sequence[Input]) -> None:
        self.inputs = tuple(inputs)
        self.devices: dict[str, Device] = {}
        self._clock = clock
        self.worst_late_ns = 0
        try:
            for item in inputs:
                device = driver.open_device(item.device, item.mode, clock.now_ns())
                self.devices[item.id] = device
        except Exception:
            self.close()
            raise
        # Opening took its time: devices begin where the clock is now.
        for device in self.devices.values():
            device.skip_to(clock.now_ns())
        self._due = [(self.devices[i.id].due_ns(), n) for n, i in enumerate(self.inputs)]
        heapq.heapify(self._due)

    def next_due_ns(self) -> int:
        """Master time of the next delivery."""
        return self._due[0][0]

    def step(self) -> Delivery:
        """Wait for the next frame or block of any device and give it, stamped."""
        due_ns, number = self._due[0]
        item = self.inputs[number]
        device = self.devices[item.id]
        self._clock.sleep_until(due_ns)
        master_ns = self._clock.now_ns()
        late_ns = master_ns - due_ns
        lost = 0
        if item.is_picture and late_ns > OVERWRITTEN_AFTER_NS:
            lost = device.skip_to(master_ns - OVERWRITTEN_AFTER_NS // 2)
        self.worst_late_ns = max(self.worst_late_ns, late_ns)
        capture = device.read()
        heapq.heapreplace(self._due, (device.due_ns(), number))
        return Delivery(item, capture, master_ns, lost)

    def close(self) -> None:
        """Let all devices go."""
        for device in self.devices.values():
            device.close()
