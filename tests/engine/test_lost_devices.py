"""Takes in which devices are lost, come back and jump in time; and inputs as they are set up."""

import json
import unittest
from dataclasses import replace
from fractions import Fraction

import av
import numpy as np
from scipy.signal import correlate

from kettle_core.picture.picture import picture_from_i420
from kettle_core.rig.devices import Mode
from kettle_core.rig.format import Format
from kettle_core.rig.rig import Card, Input, Looks, Rig, Tone
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import Layer, Scene, SceneSound
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.recording.take import record_take
from kettle_media.picture.frame_planes import frame_to_i420
from kettle_media.program.take_program import compose_take
from kettle_media.take.folder import TakeFolder
from kettle_media.take.inspect import inspect_take
from kettle_media.take.times import read_times
from kettle_media.take.track_reading import read_pictures, read_sound
from kettle_studio import sounds
from kettle_studio.driver import Studio
from tests.fixtures import ROOT, studio_input

SMALL = Format(640, 360, Fraction(30))
RATE_HZ = 48_000


def lag_ms(heard, start_s, from_s, to_s):
    """How late a stretch of a headset's sound is against the studio's truth."""
    first, last = (round(s * RATE_HZ) for s in (from_s, to_s))
    truth = np.roll(sounds.sound_of(sounds.headset())[0], -round(start_s * RATE_HZ))[first:last]
    reach = RATE_HZ // 20
    found = correlate(heard[first - reach : last + reach], truth, "valid", "fft")
    return (int(np.argmax(np.abs(found))) - reach) / RATE_HZ * 1000


class LostAndBack(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.studio = Studio(rates_ppm={"headset": 0.0, "webcam-1": 0.0})
        items = (studio_input("webcam-1"), studio_input("headset"))
        scene = Scene("scene-1", "Me", (), (SceneSound("headset"),))
        cls.folder = TakeFolder(ROOT / "lost")
        happenings = {
            3: lambda: cls.studio.set_fault("headset", "unplugged", True),
            4: lambda: cls.studio.set_fault("webcam-1", "busy", True),
            6: lambda: cls.studio.set_fault("headset", "unplugged", False),
            7: lambda: cls.studio.set_fault("webcam-1", "busy", False),
            9: lambda: cls.studio.jump_clock("headset"),
            10: lambda: cls.studio.jump_clock("webcam-1"),
        }
        rig = Rig("Lost", items, (scene,), SMALL)
        path = cls.folder.path
        record_take(
            cls.studio, rig, path, 14 * NS_PER_S,
            lambda s: happenings.pop(round(s), lambda: None)(),
        )  # fmt: skip
        cls.info = cls.folder.read_info()
        cls.tracks = {t.name: t for t in cls.info.tracks}

    def test_every_track_goes_on_to_the_end(self):
        self.assertEqual(self.info.ended_because, "stopped")
        for row in inspect_take(self.folder)["tracks"]:
            self.assertAlmostEqual(row["duration_s"], 14, delta=0.3)
        rows = read_times(self.folder.times_path(self.tracks["webcam-1"]))
        gaps_s = np.diff(rows["pts_ns"]) / NS_PER_S
        self.assertTrue(np.all(gaps_s > 0))
        self.assertAlmostEqual(gaps_s.max(), 3.0, delta=0.5)
        self.assertEqual(np.sum(gaps_s > 0.1), 1)

    def test_a_sound_is_in_time_before_a_gap_after_it_and_after_a_jump(self):
        path = self.folder.track_path(self.tracks["headset"])
        heard = np.concatenate(list(read_sound(path)), axis=1)[0]
        rows = read_times(self.folder.times_path(self.tracks["headset"]))
        lead = np.zeros(round(int(rows["pts_ns"][0]) * RATE_HZ / NS_PER_S), np.float32)
        heard = np.concatenate([lead, heard])
        start_s = self.info.start_master_ns / NS_PER_S - 0.0113
        lags = [lag_ms(heard, start_s, *span) for span in ((0.5, 2.8), (6.8, 8.8), (9.6, 13.5))]
        # Jitter of the stamps is all that may be left, up to 1.2 ms.
        self.assertLess(max(lags) - min(lags), 1.3, lags)
        silent = heard[round(3.5 * RATE_HZ) : round(5.9 * RATE_HZ)]
        self.assertEqual(float(np.abs(silent).max()), 0.0)

    def test_the_journal_tells_what_happened(self):
        lines = (self.folder.path / "journal.jsonl").read_text().splitlines()
        told = [json.loads(line)["what"] for line in lines]
        self.assertEqual(told.count("clock set right"), 4)

    def test_the_program_is_composed_of_it(self):
        sync = compose_take(self.folder, self.folder.program_path)
        drift_ppm = {t.name: t.drift_ppm for t in sync.tracks}
        self.assertLess(abs(drift_ppm["headset"]), 120)


class AsSetUp(unittest.TestCase):
    """One take of a region, a turned webcam and a card; its tracks and its program."""

    @classmethod
    def setUpClass(cls):
        crop = Box(0, 76, 640, 360)
        card = Input(
            "card",
            "Card",
            "text",
            "",
            Mode(160, 90),
            False,
            looks=Looks(opacity=90),
            card=Card("X", backdrop="#ff0000"),
        )
        cls.items = (
            studio_input("display-1", looks=Looks(crop=crop, keys=False)),
            studio_input("webcam-1", looks=Looks(crop=Box(0, 0, 320, 360), turn=90)),
            studio_input("tablet", looks=Looks()),
            replace(
                studio_input("headset"), tone=Tone(gain_db=6.0206, delay_ms=100.0)
            ),
            card,
        )  # fmt: skip
        layers = (
            Layer("display-1", "display-1", Box(0, 0, 640, 360), Box(0, 0, 640, 360)),
            Layer("card", "card", Box(480, 0, 160, 90), Box(0, 0, 160, 90)),
        )
        scene = Scene("scene-1", "All", layers, (SceneSound("headset"),))
        cls.folder = TakeFolder(ROOT / "as-set-up")
        rig = Rig("Set up", cls.items, (scene,), SMALL)
        record_take(Studio(), rig, cls.folder.path, 10 * NS_PER_S)
        cls.info = cls.folder.read_info()
        cls.tracks = {t.name: t for t in cls.info.tracks}

    def test_tracks_have_the_size_of_what_is_used(self):
        sizes = {n: (t.mode.width or None, t.mode.height or None) for n, t in self.tracks.items()}
        self.assertEqual(sizes["display-1"], (640, 360))
        self.assertEqual(sizes["webcam-1"], (360, 320))
        self.assertNotIn("card", sizes)
        for name in ("display-1", "webcam-1"):
            frame = next(read_pictures(self.folder.track_path(self.tracks[name])))
            self.assertEqual((frame.width, frame.height), sizes[name])

    def test_pointer_and_touches_are_data_in_the_regions_pixels(self):
        lines = (self.folder.path / "events.jsonl").read_text().splitlines()
        events = [json.loads(line) for line in lines]
        clicks = [e for e in events if e["what"] == "click"]
        self.assertEqual([(e["x"], e["y"]) for e in clicks], [(232, 178)])
        touches = [e for e in events if e["what"] == "touch"]
        self.assertEqual(len(touches), 2)
        self.assertEqual({e["input"] for e in touches}, {"tablet"})

    def test_the_program_has_the_card_the_gain_and_the_delay(self):
        compose_take(self.folder, self.folder.program_path)
        with av.open(str(self.folder.program_path)) as container:
            frame = next(container.decode(video=0))
            picture = picture_from_i420(frame_to_i420(frame))
        self.assertGreater(int(picture.v[4, 300]), 200)
        self.assertLess(int(picture.v[170, 300]), 150)
        with av.open(str(self.folder.program_path)) as container:
            parts = [f.to_ndarray() for f in container.decode(audio=0)]
        mix = np.concatenate(parts, axis=1).mean(axis=0)
        start_s = self.info.start_master_ns / NS_PER_S
        self.assertAlmostEqual(lag_ms(mix, start_s - 0.1, 2, 8), 0.0, delta=1.0)
        truth = np.roll(sounds.sound_of(sounds.headset())[0], -round((start_s - 0.1) * RATE_HZ))
        span = slice(2 * RATE_HZ, 8 * RATE_HZ)
        ratio = np.std(mix[span]) / np.std(truth[span])
        self.assertAlmostEqual(20 * np.log10(ratio), 6.02, delta=0.5)
