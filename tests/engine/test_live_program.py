"""Which pictures the live program shows while a take is recorded, against the composed one."""

import random
import tempfile
import unittest
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np

from kettle_core.rig.devices import Mode
from kettle_core.rig.rig import Input
from kettle_core.timing.ticks import NS_PER_S, frame_at
from kettle_engine.devices.report import LIVE, DeviceFacts, SourceReport
from kettle_engine.rings.places import ring_name
from kettle_engine.rings.ring import RingWriter
from kettle_engine.stamps import Stamps
from kettle_engine.viewing.live import Live
from kettle_engine.viewing.scene_pictures import BEHIND_FRAMES
from kettle_studio.demo import demo_rig

FPS = Fraction(30)
FRAME_NS = float(NS_PER_S / FPS)


class Pictures(unittest.TestCase):
    def shown(self, fps, latency_ms, jitter_ms):
        """Numbers of the captures that are live and that are composed, frame by frame."""
        item = Input("screen", "Screen", "display", "x", Mode(32, 16, Fraction(fps)))
        rig = replace(demo_rig(), inputs=(item,), scenes=())
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        path = folder / f"{ring_name(item)}.ring"
        writer, rng = RingWriter(path, item.mode), random.Random(3)
        report = SourceReport(LIVE, "", 0, 0, str(path), DeviceFacts(latency_ms))
        live = Live(folder, rig)
        live.set_rig(rig, [item], "")
        live.set_sources({item.id: report})
        step_ns = NS_PER_S / Fraction(fps)
        captured = [round(n * step_ns) + 5_000_000 for n in range(10 * fps)]
        came = [c + round(1e6 * (latency_ms + rng.uniform(0, jitter_ms))) for c in captured]
        found, number = [], 0
        frames = range(10, 250)
        for frame in frames:
            now_ns = (frame + BEHIND_FRAMES) * FRAME_NS
            while number < len(came) and came[number] <= now_ns:
                data = np.full((24, 32), number % 256, np.uint8)
                writer.write(data, Stamps(number, captured[number], 0, came[number]))
                number += 1
            newest = live.at(item.id, frame * FRAME_NS)
            found.append(int(newest.picture.y[0, 0]))
        wanted = np.array([frame * FRAME_NS for frame in frames])
        half_ns = round(NS_PER_S / Fraction(fps) / 2)
        composed = frame_at(np.array(captured, np.float64), wanted, half_ns) % 256
        return np.array(found), composed

    def test_live_and_composed_show_the_same_captures(self):
        for fps, latency_ms, jitter_ms in ((30, 9, 2), (30, 24, 1), (60, 24, 2), (15, 9, 3)):
            with self.subTest(fps=fps, latency_ms=latency_ms):
                live, composed = self.shown(fps, latency_ms, jitter_ms)
                apart = np.abs((live - composed + 128) % 256 - 128)
                self.assertLessEqual(apart.max(), 1)
                self.assertGreaterEqual((apart == 0).mean(), 0.99)

    def test_one_that_comes_later_than_the_program_waits_is_the_newest_there_is(self):
        live, composed = self.shown(30, 90, 1)
        apart = (composed - live) % 256
        self.assertLessEqual(apart.max(), 2)
        self.assertTrue((np.diff(live.astype(int)) % 256 <= 1).all())
