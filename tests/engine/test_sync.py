"""The composed program against the studio's truth, measured in the finished MP4 itself."""

import unittest
from dataclasses import replace
from fractions import Fraction

import av
import numpy as np
from scipy.signal import correlate

from kettle_core.picture.picture import picture_from_i420
from kettle_core.rig.changes import in_mode, with_format, with_input
from kettle_core.rig.devices import SAMPLE_RATE_HZ, Mode
from kettle_core.rig.format import Format
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.recording.take import record_take
from kettle_media.picture.frame_planes import frame_to_i420
from kettle_media.program.take_program import compose_take
from kettle_media.take.folder import TakeFolder
from kettle_studio import presenter, script, sounds, world
from kettle_studio.demo import demo_rig
from kettle_studio.driver import Studio
from tests.fixtures import ROOT

SECONDS = 45
FRAME_SIZE = (960, 540)
WEBCAM_MODE = Mode(640, 360, Fraction(60))  # small, for a quick test
RATES_PPM = {"display-1": -200.0, "webcam-1": 200.0, "headset": -200.0, "system": 200.0}
HALF_FRAME_MS = 1000 / 60


def onset_ms(times_s, values, second):
    """Time at which values have come half way up at an event, between frames."""
    near = (times_s > second - 0.2) & (times_s < second + 0.16)
    times, part = times_s[near], values[near]
    before = np.median(part[:4])
    high = part.max()
    first = int(np.argmax(part > before + 0.4 * (high - before)))
    return (times[first] - second) * 1000 if high - before > 6 else None


class ResidualSync(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        path = ROOT / "sync"
        format_ = Format(*FRAME_SIZE)
        screens = replace(format_.screens, scale=Fraction(1, 2))
        rig = with_format(demo_rig(), replace(format_, screens=screens))
        rig = with_input(rig, in_mode(rig.input("webcam-1"), WEBCAM_MODE))
        record_take(Studio(9, RATES_PPM), rig, path, SECONDS * NS_PER_S)
        cls.folder = TakeFolder(path)
        cls.info = cls.folder.read_info()
        cls.sync = compose_take(cls.folder, cls.folder.program_path)
        cls.start_s = cls.info.start_master_ns / NS_PER_S
        cls.read_program()
        cls.voice_ms = cls.sound_lag_ms(sounds.sound_of(sounds.voice())[0])
        cls.system_ms = cls.sound_lag_ms(sounds.sound_of(sounds.system(False)).mean(axis=0))

    @classmethod
    def read_program(cls):
        shown = FRAME_SIZE[0] / 1920
        pages = [world.page_corner(s.column, s.row) for s in script.STEPS]
        pages = [(round(a * shown / 2), round(t * shown / 2)) for a, t in pages]
        layer = cls.info.rig_values.scenes[0].layers[1]
        scale = layer.box.width / layer.crop.width
        drawn = layer.crop.height / presenter.HEIGHT
        left, top, width, _ = (v * drawn for v in presenter.PAPER_BOX)
        x = layer.box.left + (left + 24 * drawn - layer.crop.left) * scale
        y = layer.box.top + (top + 8 * drawn) * scale
        paper = np.s_[
            int(y) : int(y + 36 * drawn * scale), int(x) : int(x + (width - 48 * drawn) * scale)
        ]
        cls.times_s, cls.pages, cls.paper = [], [], []
        with av.open(str(cls.folder.program_path)) as container:
            cls.streams = [(s.type, s.codec_context.name) for s in container.streams]
            cls.colours = container.streams.video[0].codec_context.colorspace
            for frame in container.decode(video=0):
                picture = picture_from_i420(frame_to_i420(frame))
                v, luma = picture.v, picture.y
                cls.times_s.append(float(frame.time))
                cls.pages.append([v[t + 4 : t + 12, a + 4 : a + 60].mean() for a, t in pages])
                cls.paper.append(float(luma[paper].mean()))
        cls.times_s = np.array(cls.times_s)
        cls.pages, cls.paper = np.array(cls.pages), np.array(cls.paper)
        with av.open(str(cls.folder.program_path)) as container:
            parts = [f.to_ndarray() for f in container.decode(audio=0)]
        cls.mix = np.concatenate(parts, axis=1).mean(axis=0)

    @classmethod
    def sound_lag_ms(cls, table):
        """How late a known sound is in the program, by plain correlation around its truth."""
        first = round(cls.start_s * SAMPLE_RATE_HZ)
        reach = SAMPLE_RATE_HZ // 20
        truth = np.roll(table, -first)[: cls.mix.size]
        found = correlate(cls.mix[reach:-reach], truth[: cls.mix.size], "valid", "fft")
        lags = np.arange(found.size) - reach
        best = int(np.argmax(np.abs(found)))
        return -float(lags[best]) / SAMPLE_RATE_HZ * 1000

    def test_sound_to_sound_is_within_a_millisecond(self):
        self.assertLess(abs(self.voice_ms), 1.0)
        self.assertLess(abs(self.voice_ms - self.system_ms), 1.0)

    def test_display_to_sound_is_within_half_a_frame(self):
        lags = []
        for number, step in enumerate(script.STEPS):
            second = step.second - self.start_s
            if 0.3 < second < SECONDS - 1:
                lags.append(onset_ms(self.times_s, self.pages[:, number], second))
        # Each is seen, and no one a frame off.
        self.assertNotIn(None, lags)
        self.assertGreaterEqual(len(lags), 7)
        # What changes between two frames is seen half a frame later on average.
        residuals = np.array(lags) - HALF_FRAME_MS - self.system_ms
        self.assertLess(abs(residuals.mean()), HALF_FRAME_MS)
        self.assertLess(np.abs(residuals).max(), 2 * HALF_FRAME_MS)

    def test_webcam_to_sound_is_within_half_a_frame(self):
        lags = [
            onset_ms(self.times_s, self.paper, second - self.start_s)
            for second in script.KNOCKS_S
            if 0.3 < second - self.start_s < SECONDS - 1
        ]
        seen = [x for x in lags if x is not None]
        self.assertGreaterEqual(len(seen), 10)
        self.assertLess(abs(np.mean(seen) - HALF_FRAME_MS - self.voice_ms), HALF_FRAME_MS)

    def test_every_track_is_corrected_to_the_truth(self):
        for track in self.sync.tracks:
            with self.subTest(track.name):
                limit = 1.0 if track.name in ("headset", "system") else HALF_FRAME_MS / 2
                self.assertAlmostEqual(track.offset_ms, track.true_offset_ms, delta=limit)
                self.assertAlmostEqual(track.drift_ppm, track.true_drift_ppm, delta=5)

    def test_the_program_is_h264_and_aac_in_bt709_with_its_index_in_front(self):
        self.assertEqual(self.streams, [("video", "h264"), ("audio", "aac")])
        self.assertEqual(int(self.colours), 1)
        self.assertEqual(len(self.times_s), SECONDS * 30)
        data = self.folder.program_path.read_bytes()
        self.assertLess(data.index(b"moov"), data.index(b"mdat"))
