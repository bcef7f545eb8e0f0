import gc
import unittest
import weakref
from fractions import Fraction

import numpy as np

from kettle_core.errors import DeviceError
from kettle_core.picture.picture import picture_from_i420
from kettle_core.rig.devices import Mode
from kettle_studio import presenter, script, world
from kettle_studio.driver import Studio


def read_until(device, master_ns):
    found = []
    while device.due_ns() < master_ns:
        found.append((device.due_ns(), device.read()))
    return found


class Devices(unittest.TestCase):
    def setUp(self):
        self.studio = Studio(3, {"headset": 200.0, "system": -200.0})
        self.infos = {d.id: d for d in self.studio.list_devices()}

    def open_device(self, name, from_ns=0):
        return self.studio.open_device(name, self.infos[name].modes[0], from_ns)

    def test_frames_and_blocks_rise_without_gaps_and_come_after_their_latency(self):
        for name in self.infos:
            with self.subTest(name):
                device = self.open_device(name)
                truth = device.truth()
                captures = read_until(device, 2 * 10**9)
                numbers = [c.no for _, c in captures]
                self.assertEqual(numbers, list(range(numbers[0], numbers[0] + len(numbers))))
                for due, c in captures:
                    ready = c.device_ns + (0 if self.infos[name].is_picture else c.duration_ns)
                    true = (ready - truth["epoch_ns"]) / (1 + truth["rate_ppm"] * 1e-6)
                    late_ms = (due - true) / 1e6 - truth["latency_ms"]
                    self.assertGreaterEqual(late_ms, -0.001)
                    self.assertLess(late_ms, 5)

    def test_the_same_seed_gives_the_same_sound_and_picture(self):
        for name in self.infos:
            first = [c.data for _, c in read_until(self.open_device(name), 4 * 10**8)]
            again = [c.data for _, c in read_until(self.open_device(name), 4 * 10**8)]
            np.testing.assert_array_equal(first, again)

    def test_a_device_that_is_let_go_takes_its_buffers_along_at_once(self):
        gc.collect()
        gc.disable()
        self.addCleanup(gc.enable)
        for name in self.infos:
            device = self.open_device(name)
            data = device.read().data
            buffer = weakref.ref(data if data.base is None else data.base)
            device.close()
            del device, data
            self.assertIsNone(buffer(), name)

    def test_a_fast_clock_gives_more_samples(self):
        fast = len(read_until(self.open_device("headset"), 100 * 10**9))
        slow = len(read_until(self.open_device("system"), 100 * 10**9))
        self.assertAlmostEqual(fast - slow, 4, delta=2)

    def test_a_snap_is_seen_and_heard_at_one_moment(self):
        second = script.STEPS[1].second
        display, system = self.open_device("display-1"), self.open_device("system")
        left, top = world.page_corner(1, 0)
        seen = [
            (c.device_ns - display.truth()["epoch_ns"]) / 1e9
            for _, c in read_until(display, int((second + 1) * 1e9))
            if picture_from_i420(c.data).u[top // 2 + 3, left // 2 + 3] < 120
        ]
        self.assertGreaterEqual(seen[0], second - 0.001)
        self.assertLess(seen[0], second + 0.035)
        blocks = read_until(system, int((second + 1) * 1e9))
        loud = next(c for _, c in blocks if np.abs(np.diff(c.data)).max() > 0.12 and
                    (c.device_ns - system.truth()["epoch_ns"]) / 1e9 > second - 0.5)  # fmt: skip
        heard = (loud.device_ns - system.truth()["epoch_ns"]) / 1e9 / (1 - 200e-6)
        self.assertLess(abs(heard - second), 0.011)

    def test_a_display_is_mostly_still(self):
        changed = [c.changed for _, c in read_until(self.open_device("display-1"), 30 * 10**9)]
        self.assertLess(np.mean(changed), 0.45)
        self.assertGreater(np.mean(changed), 0.05)

    def test_the_mouth_and_the_knock_are_in_the_picture(self):
        painter = presenter.PresenterPainter(720)
        quiet, loud = (picture_from_i420(painter.draw(t, 1)) for t in (12.0, script.KNOCKS_S[3]))
        left, top, width, height = presenter.PAPER_BOX
        area = np.s_[top + 5 : top + height - 5, left + 20 : left + width - 20]
        self.assertGreater(loud.y[area].mean(), quiet.y[area].mean() + 15)

    def test_events_are_told_once_with_the_displays_clock(self):
        display = self.open_device("display-1")
        read_until(display, 10 * 10**9)
        events = display.events()
        clicks = [e for e in events if e.kind == "click"]
        self.assertEqual(len(clicks), 2)
        self.assertEqual(len(display.events()), 0)
        first = (clicks[0].device_ns - display.truth()["epoch_ns"]) / 1e9
        self.assertAlmostEqual(first, script.STEPS[0].second, delta=0.005)

    def test_what_is_not_there_is_refused_by_name(self):
        with self.assertRaisesRegex(DeviceError, "there are display-1, webcam-1"):
            self.studio.open_device("kazoo", Mode(), 0)
        with self.assertRaisesRegex(
            DeviceError, r"1280 × 720 px · 60 fps, 1920 × 1080 px · 30 fps"
        ):
            self.studio.open_device("webcam-1", Mode(3840, 2160, Fraction(60)), 0)

    def test_what_is_switched_is_heard_in_the_next_block(self):
        """Blocks are read some on end; none of them may be of what was before."""
        studio = Studio(1)
        info = next(d for d in studio.list_devices() if d.id == "headset")
        device = studio.open_device("headset", info.modes[0], 0)
        for number in range(200):
            studio.set_fault("headset", "uneven", number % 3 == 0)
            got = device.read()
            lasts = got.data.shape[1] * 10**9 / info.modes[0].sample_rate_hz
            self.assertAlmostEqual(got.duration_ns, lasts, delta=30_000, msg=number)
        before = device.read().device_ns
        studio.jump_clock("headset")
        jumped, fresh = device.read(), studio.open_device("headset", info.modes[0], 0)
        self.assertGreater(jumped.device_ns - before, 10**9)
        while (same := fresh.read()).no < jumped.no:
            pass
        np.testing.assert_array_equal(jumped.data, same.data)
