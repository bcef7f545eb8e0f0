"""Which pictures the live program shows while a take is recorded, against the composed one."""

import random
import tempfile
import unittest
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from types import SimpleNamespace
from unittest import mock

import cv2
import numpy as np

from kettle_core.picture.compose import Composer
from kettle_core.picture.picture import Picture, picture_from_i420
from kettle_core.program.change_over import ProgramComposer
from kettle_core.program.cues import Place, ToScene
from kettle_core.program.plan import stretches_from_now
from kettle_core.program.replay import replay
from kettle_core.rig.devices import Mode
from kettle_core.rig.rig import Input
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import ChangeOver
from kettle_core.timing.ticks import NS_PER_S, frame_at
from kettle_engine.cueing import TakeCues
from kettle_engine.devices.report import LIVE, DeviceFacts, SourceReport
from kettle_engine.rings.places import ring_name
from kettle_engine.rings.ring import RingWriter
from kettle_engine.stamps import Stamps
from kettle_engine.viewing.live import Live, Newest
from kettle_engine.viewing.scene_pictures import BEHIND_FRAMES, ScenePictures
from kettle_media.picture.scaling import Shrinker
from kettle_studio.demo import demo_rig
from tests.fixtures import ROOT

FPS = Fraction(30)
FRAME_NS = float(NS_PER_S / FPS)
FADE = ChangeOver("crossfade", 600)


class Pictures(unittest.TestCase):
    def live_input(self, fps, latency_ms):
        """A live input, its ring's writer and the report of its device."""
        item = Input("screen", "Screen", "display", "x", Mode(32, 16, Fraction(fps)))
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        path = folder / f"{ring_name(item)}.ring"
        writer = RingWriter(path, item.mode)
        report = SourceReport(LIVE, "", 0, 0, str(path), DeviceFacts(latency_ms))
        live = Live(folder, replace(demo_rig(), inputs=(item,), scenes=()))
        live.set_rig(live.rig, [item], "")
        live.set_sources({item.id: report})
        return live, item, writer, report

    def shown(self, fps, latency_ms, jitter_ms):
        """Numbers of the captures that are live and that are composed, frame by frame."""
        live, item, writer, _ = self.live_input(fps, latency_ms)
        rng = random.Random(3)
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

    def test_a_device_that_is_away_shows_its_last_picture_on_within_the_take(self):
        live, item, writer, report = self.live_input(30, 9)
        live.set_cues(SimpleNamespace())
        self.assertIsNone(live.at(item.id, 0.0))
        writer.write(np.full((24, 32), 77, np.uint8), Stamps(0, 5_000_000, 0, 14_000_000))
        self.assertEqual(live.at(item.id, 40e6).picture.y[0, 0], 77)
        live.set_sources({item.id: replace(report, state="unplugged", ring="")})
        self.assertEqual(live.at(item.id, 400e6).picture.y[0, 0], 77)
        self.assertIsNone(live.newest(item.id))
        live.set_cues(None)
        live.set_cues(SimpleNamespace())
        self.assertIsNone(live.at(item.id, 40e6))


class SmallScenes(unittest.TestCase):
    def setUp(self):
        self.rig = rig = demo_rig()
        self.live = Live(ROOT, rig)
        self.live.set_rig(rig, [i for i in rig.inputs if i.is_picture], "")
        rng = np.random.default_rng(2)

        def some_picture(item):
            rough = rng.integers(90, 160, (9, 16), np.uint8)
            luma = cv2.resize(rough, (item.mode.width, item.mode.height))
            chroma = np.full((item.mode.height // 2, item.mode.width // 2), 128, np.uint8)
            return Picture(luma, chroma, chroma)

        self.seen = {i.id: Newest(some_picture(i), 1) for i in rig.inputs if i.is_picture}
        self.live.newest = self.seen.get
        self.live.at = lambda name, at_ns: self.seen[name]
        self.pictures = ScenePictures(ROOT)

    def assert_looks_alike(self, small, large, words):
        self.assertEqual(small.width * large.height, small.height * large.width)
        expected = cv2.resize(large.y, (small.width, small.height), interpolation=cv2.INTER_AREA)
        apart = np.abs(small.y.astype(int) - expected)
        # But for edges, which come to lie on another pixel.
        self.assertLess(np.percentile(apart, 90), 6, words)
        self.assertLess(apart.mean(), 4, words)

    def test_a_scene_composed_small_looks_as_the_large_one_seen_small(self):
        for scene in self.rig.scenes:
            small = self.pictures.shown(self.live, scene.id, 320).frame
            large = self.pictures.shown(self.live, scene.id).frame
            self.assertEqual((small.width, small.height), (320, 180))
            self.assert_looks_alike(small, large, scene.name)

    def test_a_scene_that_looks_as_before_is_not_composed_again(self):
        scene = self.rig.scenes[0].id
        first = self.pictures.shown(self.live, scene, 320)
        with mock.patch.object(Composer, "compose", side_effect=AssertionError):
            again = self.pictures.shown(self.live, scene, 320)
            self.assertEqual(again.stamp, first.stamp)
        self.seen["webcam-1"] = replace(self.seen["webcam-1"], number=2)
        self.assertNotEqual(self.pictures.shown(self.live, scene, 320).stamp, first.stamp)

    def test_the_program_of_a_take_is_composed_as_it_is_shown_with_all_that_was_moved(self):
        first, second = self.rig.scenes[:2]
        moved = Place(0, first.id, first.layers[-1].id, Box(60, 40, 700, 700), 8.0)
        over = replace(self.rig, scenes=(first, replace(second, change_over=FADE)))
        for cues, at_frame in (((moved,), 20), ((moved, ToScene(NS_PER_S, second.id)), 36)):
            moments = replay(over, cues).moments
            self.live.set_cues(TakeCues(0, moments))
            self.live.rig = over
            shown = self.pictures.program(self.live, (at_frame + BEHIND_FRAMES) * FRAME_NS)
            (stretch,) = (
                s
                for s in stretches_from_now(moments, over.format)
                if s.first_frame <= at_frame < s.end_frame
            )
            sight = {name: one.picture for name, one in self.seen.items()}
            large = ProgramComposer(over.format.frame_size, {}, Shrinker("area")).compose(
                stretch.scene, sight, stretch.before, stretch.change_over,
                stretch.share_at(at_frame),
            )  # fmt: skip
            self.assertEqual(shown.frame.width, 960)
            self.assert_looks_alike(shown.frame, picture_from_i420(large), f"frame {at_frame}")
