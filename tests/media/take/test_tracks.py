import shutil
import unittest
from fractions import Fraction

import av
import numpy as np

from kettle_bench.stills import write_still
from kettle_core.rig.devices import Mode
from kettle_core.rig.encoder_settings import track_settings
from kettle_core.rig.format import SCREEN_TRACKS, WEBCAM_TRACKS
from kettle_media.take.packets import read_packets, rewrap
from kettle_media.take.tracks import PictureWriter, SoundWriter
from tests.fixtures import ROOT

LOST_AT_MOST_S = 0.5
MODE = Mode(320, 240, Fraction(30))


class CutOff(unittest.TestCase):
    """A file as a kill leaves it: copied while it is written, never closed."""

    def readable_s(self, path):
        cut, fixed = path.with_suffix(".cut.mkv"), path.with_suffix(".fixed.mkv")
        shutil.copy(path, cut)
        rewrap(cut, fixed)
        with av.open(str(fixed)) as container:
            return float(max(p.pts * p.time_base for p in container.demux() if p.pts is not None))

    def test_a_picture_track_loses_at_most_half_a_second(self):
        rng = np.random.default_rng(3)
        for track in (SCREEN_TRACKS, WEBCAM_TRACKS):
            path = ROOT / f"cut-{track.speed}.mkv"
            writer = PictureWriter(path, MODE, track_settings(MODE, track))
            for number in range(100):
                frame = rng.integers(16, 235, (360, 320), dtype=np.uint8)
                writer.write(frame, number * 10**9 // 30)
                if number in (40, 99):
                    self.assertGreater(self.readable_s(path), number / 30 - LOST_AT_MOST_S)
            writer.close()

    def test_a_still_screen_of_a_second_is_there_with_all_its_few_frames(self):
        frame = np.full((360, 320), 90, np.uint8)
        for count in range(1, 10):
            path = ROOT / f"short-{count}.mkv"
            writer = PictureWriter(path, MODE, track_settings(MODE, SCREEN_TRACKS))
            for number in range(count):
                writer.write(frame, number * 10**9 // 5)
            writer.close()
            self.assertEqual([p.at_ms for p in read_packets(path)], [*range(0, 200 * count, 200)])
            playable = path.with_suffix(".mp4")
            self.assertEqual(rewrap(path, playable, faststart=True), count)
            with av.open(str(playable)) as container:
                times = [float(f.pts * f.time_base) for f in container.decode(video=0)]
            np.testing.assert_allclose(times, np.arange(count) / 5, atol=0.002)

    def test_frames_that_wait_for_later_ones_are_handed_on_in_their_order(self):
        path, playable = ROOT / "waiting.mkv", ROOT / "waiting.mp4"
        with av.open(str(path), "w") as file:
            stream = file.add_stream("libx264", rate=30, options={"bf": "3", "b-adapt": "0"})
            stream.width, stream.height, stream.pix_fmt = 64, 48, "yuv420p"
            for number in range(60):
                plane = np.full((72, 64), 20 + 3 * number, np.uint8)
                frame = av.VideoFrame.from_ndarray(plane, "yuv420p")
                frame.pts = number
                file.mux(stream.encode(frame))
            file.mux(stream.encode(None))
        self.assertEqual(rewrap(path, playable), 60)
        found = []
        for name in (path, playable):
            with av.open(str(name)) as file:
                found.append(
                    [(round(p.pts * p.time_base * 1000), bytes(p)) for p in file.demux() if p.size]
                )
        self.assertEqual(*found)
        shown_ms = [at_ms for at_ms, _ in found[0]]
        self.assertNotEqual(shown_ms, sorted(shown_ms))

    def test_a_sound_track_loses_at_most_half_a_second(self):
        path = ROOT / "cut-sound.mkv"
        writer = SoundWriter(path, Mode(sample_rate_hz=48_000, channels=2))
        rng = np.random.default_rng(4)
        for number in range(300):
            writer.write(0.1 * rng.standard_normal((2, 480)).astype(np.float32), number * 10**7)
            if number in (120, 299):
                self.assertGreater(self.readable_s(path), number / 100 - LOST_AT_MOST_S)
        writer.close()


class Packets(unittest.TestCase):
    """Where packets lie, in whatever units a container keeps its times."""

    def test_they_lie_where_exact_fractions_say(self):
        fps = Fraction(30_000, 1001)
        path = ROOT / "exact.mp4"
        write_still(path, 100, fps)
        for file in (path, path.with_suffix(".mkv")):
            if file != path:
                self.assertEqual(rewrap(path, file), 100)
            with av.open(str(file)) as container:
                exact = [
                    (p.pts * p.time_base * 1000, float((p.duration or 0) * p.time_base))
                    for p in container.demux(video=0)
                    if p.size
                ]
            for packet, (at_ms, length_s) in zip(read_packets(file), exact, strict=True):
                self.assertLessEqual(abs(packet.at_ms - at_ms), Fraction(1, 2))
                self.assertAlmostEqual(packet.length_s, length_s, 12)
            last_ms = 99 * 1000 / fps
            self.assertLessEqual(abs(read_packets(file)[-1].at_ms - last_ms), 1)
