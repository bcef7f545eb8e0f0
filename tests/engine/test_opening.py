"""Devices that are slow or never open, beside others that are well."""

import threading
import time
import unittest
from dataclasses import replace
from unittest import mock

from kettle_core.rig.devices import DeviceInfo, Mode
from kettle_core.rig.rig import input_of_device
from kettle_engine.clock import WallClock
from kettle_engine.devices import rack as racks
from kettle_engine.devices.rack import Rack
from kettle_engine.devices.report import FAULT, LIVE, OPENING
from tests.engine.odd_driver import MODE, OddDevice, OddDriver


class Slow(OddDriver):
    """Opens what is called well; the rest hangs until it is let go."""

    def __init__(self):
        self.gate = threading.Event()
        self.asked = []

    def open_device(self, device_id, mode, from_ns):
        self.asked.append(device_id)
        if "well" not in device_id:
            self.gate.wait(60)
        info = DeviceInfo(device_id, device_id, "display", (MODE,), 0.0)
        return OddDevice(replace(info, id="odd:well"), from_ns)


def items(*names):
    infos = [DeviceInfo(f"odd:{n}", n, "display", (MODE,), 0.0) for n in names]
    return [input_of_device(info, info.name) for info in infos]


class Opening(unittest.TestCase):
    def setUp(self):
        self.driver = Slow()
        self.addCleanup(self.driver.gate.set)
        self.rack = Rack(self.driver, WallClock())
        self.addCleanup(self.rack.close)

    def until(self, holds):
        deadline = time.monotonic() + 60
        while not holds():
            self.assertLess(time.monotonic(), deadline)
            self.rack.step()

    def state(self, item):
        return self.rack.state_of(item)

    def test_hung_opens_hold_up_nobody_and_are_told_after_their_time(self):
        hung, well = items("h1", "h2", "h3", "h4"), items("well-1", "well-2")
        with (
            mock.patch.object(racks, "SLOW_OPEN_S", 0.2),
            mock.patch.object(racks, "OPEN_LIMIT_S", 0.6),
        ):
            self.rack.set_inputs([*hung, *well])
            self.assertEqual({self.state(i) for i in hung}, {OPENING})
            self.until(lambda: all(self.state(i) == LIVE for i in well))
            self.until(lambda: all(self.state(i) == FAULT for i in hung))
            sentences = [s.sentence for s in self.rack.sources.values() if s.state == FAULT]
            self.assertEqual(sentences[0], "h1 has not opened within 1 s.")
            # One that comes after all is taken up.
            self.driver.gate.set()
            self.until(lambda: all(self.state(i) == LIVE for i in hung))
        self.assertEqual(len(self.driver.asked), 6)

    def test_what_is_recorded_is_opened_first_and_of_that_sounds(self):
        seen = [replace(i, recorded=False) for i in items("h1", "h2")]
        heard = input_of_device(
            DeviceInfo(
                "odd:h5", "h5", "microphone", (Mode(sample_rate_hz=48_000, channels=1),), 0.0
            ),
            "h5",
        )
        with mock.patch.object(racks, "SLOW_OPEN_S", 0.2):
            self.rack.set_inputs([*seen, *items("h3", "h4", "h6"), heard])
            self.until(lambda: len(self.driver.asked) == 6)
        self.assertEqual(set(self.driver.asked[:3]), {"odd:h5", "odd:h3", "odd:h4"})
        self.assertEqual(self.driver.asked[3], "odd:h6")

    def test_what_is_only_looked_at_is_opened_once_what_is_recorded_is_open(self):
        seen = [replace(i, recorded=False) for i in items("well-1", "well-2")]
        recorded = items("h1")
        self.rack.set_inputs([*seen, *recorded])
        for _ in range(30):
            self.rack.step()
        self.assertEqual(self.driver.asked, ["odd:h1"])
        self.driver.gate.set()
        self.until(lambda: all(self.state(i) == LIVE for i in [*seen, *recorded]))

    def test_a_driver_in_which_too_many_hang_is_not_asked_for_more(self):
        with (
            mock.patch.object(racks, "SLOW_OPEN_S", 0.05),
            mock.patch.object(racks, "MOST_HANGING", 4),
        ):
            many = items(*(f"h{n}" for n in range(9)))
            self.rack.set_inputs(many)
            self.until(lambda: any("Too many devices hang" in s.sentence
                                   for s in self.rack.sources.values()))  # fmt: skip
        self.assertLess(len(self.driver.asked), 9)

    def test_a_device_in_another_mode_than_asked_for_is_refused(self):
        other = [replace(i, mode=Mode(32, 24, MODE.fps)) for i in items("well-1")]
        self.rack.set_inputs(other)
        self.until(lambda: self.state(other[0]) == "changed")
