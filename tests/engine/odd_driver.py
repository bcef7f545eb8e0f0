"""A driver whose devices hang, crash, eat memory and lie; for an engine that must not care."""

import os
import time
from fractions import Fraction

import numpy as np

from kettle_core.errors import DeviceError
from kettle_core.rig.devices import Capture, DeviceInfo, Mode
from kettle_core.timing.ticks import NS_PER_S

MODE = Mode(64, 48, Fraction(30))
VOICE = Mode(sample_rate_hz=48_000, channels=1)
KINDS = {
    "well": MODE, "never-opens": MODE, "hangs": MODE, "crashes": MODE, "eats": MODE,
    "fails": MODE, "wrong-shape": MODE, "beeps": VOICE,
}  # fmt: skip
GOOD_S = 6.0


class OddDevice:
    """Well for some seconds, then as its name says."""

    def __init__(self, info, from_ns):
        self.info, self.mode = info, info.modes[0]
        self._kind = info.id.partition(":")[2]
        self._step_ns = 10**7 if self.mode == VOICE else NS_PER_S // 30
        self._no = from_ns // self._step_ns + 1
        self._began_s = time.monotonic()

    def due_ns(self):
        return self._no * self._step_ns

    def skip_to(self, master_ns):
        before, self._no = self._no, max(self._no, -(-master_ns // self._step_ns))
        return self._no - before

    def read(self):
        if time.monotonic() - self._began_s > GOOD_S:
            self._be_odd()
        no, self._no = self._no, self._no + 1
        if self.mode == VOICE:
            data = 0.3 * np.sin(np.arange(480) * 0.1).astype(np.float32)[None]
        else:
            data = np.full((72, 64), 16 + no % 200, np.uint8)
        if self._kind == "wrong-shape" and time.monotonic() - self._began_s > GOOD_S:
            data = data[:10]
        start_ns = no * self._step_ns - (self._step_ns if self.mode == VOICE else 0)
        return Capture(no, start_ns, self._step_ns, data)

    def _be_odd(self):
        if self._kind == "hangs":
            time.sleep(10_000)
        elif self._kind == "crashes":
            os._exit(7)
        elif self._kind == "fails":
            raise ZeroDivisionError("a driver's mistake")
        elif self._kind == "eats":
            self._eaten = [np.ones(50_000_000) for _ in range(8)]
            time.sleep(3)

    def events(self):
        return ()

    def truth(self):
        return None

    def close(self):
        raise OSError("even closing fails")


class OddDriver:
    def list_devices(self):
        kinds = {MODE: "display", VOICE: "microphone"}
        return [
            DeviceInfo(f"odd:{name}", name, kinds[mode], (mode,), 0.0)
            for name, mode in KINDS.items()
        ]

    def owns(self, device_id):
        return device_id.startswith("odd:")

    def open_device(self, device_id, mode, from_ns):
        if device_id == "odd:never-opens":
            time.sleep(10_000)
        for info in self.list_devices():
            if info.id == device_id:
                return OddDevice(info, from_ns)
        raise DeviceError(f"{device_id} is not there.", "unplugged")

    def surroundings(self, device_id):
        return ()

    def switch_surrounding(self, device_id, key, on):
        raise DeviceError("There is no switch.")


def odd_driver(_):
    return OddDriver()


def late_driver(_):
    time.sleep(5)
    return OddDriver()
