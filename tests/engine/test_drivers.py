"""What every driver must do, tried on each; and what the studio's faults do to the engine."""

import os
import tempfile
import threading
import unittest
from fractions import Fraction
from pathlib import Path
from unittest import mock

import av
import numpy as np

from kettle_core.errors import DeviceError
from kettle_core.picture.picture import picture_from_i420
from kettle_core.rig.devices import Mode
from kettle_core.rig.rig import input_of_device
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.clock import VirtualClock
from kettle_engine.devices.drivers import Drivers
from kettle_engine.devices.rack import Rack
from kettle_engine.devices.report import LIVE
from kettle_engine.viewing.watch import PictureWatch
from kettle_media.rig import file_driver
from kettle_media.rig.file_driver import Ahead, FileDriver
from kettle_media.sound.sound_file import write_sound_file
from kettle_studio.computer import BAR_PX
from kettle_studio.driver import Studio


def write_video(path, width, height, fps=1, frames=1):
    """Frames of a size, each lighter than the one before."""
    with av.open(str(path), "w") as container:
        video = container.add_stream("ffv1", rate=Fraction(fps))
        video.width, video.height, video.pix_fmt = width, height, "yuv420p"
        for n in range(frames):
            grey = np.full((height * 3 // 2, width), 40 + 10 * n, np.uint8)
            frame = av.VideoFrame.from_ndarray(grey, format="yuv420p")
            frame.pts = n
            container.mux(video.encode(frame))
        container.mux(video.encode(None))


def make_material(folder):
    """A video of 12 frames with sound, a sound, and what is neither."""
    tone = np.sin(np.arange(24_000) * 0.05).astype(np.float32)[None] * 0.4
    write_sound_file(folder / "voice.flac", tone, 48_000)
    with av.open(str(folder / "clip.mp4"), "w") as container:
        video = container.add_stream("libx264", rate=Fraction(12))
        video.width, video.height, video.pix_fmt = 130, 70, "yuv420p"
        audio = container.add_stream("aac", rate=44_100, layout="stereo")
        for n in range(12):
            rgb = np.full((70, 130, 3), 20 * n, np.uint8)
            frame = av.VideoFrame.from_ndarray(rgb, format="rgb24")
            frame.pts = n
            container.mux(video.encode(frame))
        sound = av.AudioFrame.from_ndarray(
            np.zeros((2, 44_100), np.float32), format="fltp", layout="stereo"
        )
        sound.sample_rate = 44_100
        container.mux(audio.encode(sound))
        container.mux(video.encode(None))
        container.mux(audio.encode(None))
    (folder / "broken.mp4").write_bytes(b"\0" * 500)
    (folder / "notes.txt").write_text("not played")


class Contract(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        make_material(cls.folder)
        files = FileDriver(cls.folder)
        studio = Studio()
        cls.drivers = {"studio": studio, "file": files, "both": Drivers(studio, files)}

    def devices(self):
        for name, driver in self.drivers.items():
            for info in driver.list_devices():
                if name == "both" and info.part_of:
                    continue
                with self.subTest(driver=name, device=info.id):
                    yield driver, info

    def test_what_is_listed_is_whole_owned_and_unique(self):
        for driver in self.drivers.values():
            ids = [d.id for d in driver.list_devices()]
            self.assertEqual(len(set(ids)), len(ids))
            for info in driver.list_devices():
                self.assertTrue(driver.owns(info.id) and info.name and info.modes)
                self.assertTrue(info.part_of == "" or info.part_of in ids)
                self.assertIn(info.largest_mode, info.modes)
            self.assertFalse(driver.owns("display-77"))

    def test_frames_and_blocks_come_in_order_with_their_size_and_times(self):
        for driver, info in self.devices():
            mode = info.modes[0]
            device = driver.open_device(info.id, mode, 5 * NS_PER_S)
            self.assertEqual(device.mode, mode)
            captures = []
            for _ in range(5):
                self.assertGreaterEqual(device.due_ns(), 5 * NS_PER_S)
                captures.append(device.read())
            picture = (mode.height * 3 // 2, mode.width)
            for capture in captures:
                samples = capture.duration_ns * (mode.sample_rate_hz or 0) / NS_PER_S
                sound = (mode.channels, round(samples))
                self.assertEqual(capture.data.shape, picture if mode.width else sound)
            steps = np.diff([c.device_ns for c in captures])
            self.assertTrue(np.all(abs(steps - captures[0].duration_ns) <= 2))
            self.assertTrue(np.all(np.diff([c.no for c in captures]) == 1))
            lost = device.skip_to(device.due_ns() + NS_PER_S)
            following = device.read()
            self.assertEqual(following.no, captures[-1].no + 1 + lost)
            self.assertGreater(lost, 0)
            device.close()

    def test_a_kept_frame_is_not_drawn_over(self):
        for driver, info in self.devices():
            if info.is_picture and not info.part_of:
                device = driver.open_device(info.id, info.modes[0], 0)
                kept = device.read().data
                before = kept.copy()
                for _ in range(12):
                    device.read()
                np.testing.assert_array_equal(kept, before)

    def test_wrong_modes_and_missing_devices_are_refused_in_words(self):
        for driver, info in self.devices():
            with self.assertRaisesRegex(DeviceError, "mode"):
                driver.open_device(info.id, Mode(7, 7, Fraction(7)), 0)
        for driver in self.drivers.values():
            for name in ("display-77", "file:../../etc/passwd", "file:broken.mp4"):
                with self.assertRaises(DeviceError) as caught:
                    driver.open_device(name, Mode(), 0)
                self.assertEqual(caught.exception.state, "unplugged")

    def test_surroundings_are_switched_where_that_can_be(self):
        for driver, info in self.devices():
            for found in driver.surroundings(info.id):
                if found.switchable:
                    driver.switch_surrounding(info.id, found.key, not found.on)
                    now = {s.key: s.on for s in driver.surroundings(info.id)}
                    self.assertEqual(now[found.key], not found.on)
                    driver.switch_surrounding(info.id, found.key, found.on)
                else:
                    self.assertTrue(found.advice)
            with self.assertRaises(DeviceError):
                driver.switch_surrounding(info.id, "gravity", False)

    def test_a_file_goes_round_and_one_that_is_taken_away_is_unplugged(self):
        driver = self.drivers["file"]
        names = [d.id for d in driver.list_devices()]
        self.assertEqual(names, ["file:clip.mp4", "file:clip.mp4#sound", "file:voice.flac#sound"])
        info = driver.list_devices()[0]
        device = driver.open_device(info.id, info.modes[0], 0)
        lumas = [int(picture_from_i420(device.read().data).y.mean()) for _ in range(26)]
        self.assertEqual(lumas[:12], sorted(lumas[:12]))
        self.assertEqual(lumas[:12], lumas[12:24])
        gone = self.folder / "gone.flac"
        gone.write_bytes((self.folder / "voice.flac").read_bytes())
        sound = driver.open_device("file:gone.flac#sound", driver.list_devices()[-1].modes[0], 0)
        gone.unlink()
        with self.assertRaises(DeviceError) as caught:
            for _ in range(200):
                sound.read()
        self.assertEqual(caught.exception.state, "unplugged")


class Faults(unittest.TestCase):
    def setUp(self):
        self.studio, self.clock = Studio(), VirtualClock()
        self.infos = {d.id: d for d in self.studio.list_devices()}
        self.rack = Rack(self.studio, self.clock)
        self.items = [
            input_of_device(self.infos[n], n) for n in ("webcam-2", "headset", "display-2")
        ]
        self.rack.set_inputs(self.items)

    def run_for(self, seconds):
        end_ns, found = self.clock.now_ns() + seconds * NS_PER_S, []
        while self.clock.now_ns() < end_ns:
            delivery = self.rack.step()
            if delivery:
                found.append(delivery)
        return found

    def state(self, name):
        return next(s for s in self.rack.sources.values() if s.device_id == name)

    def of(self, deliveries, name):
        return [d for d in deliveries if d.source.device_id == name]

    def test_lost_devices_are_named_the_rest_goes_on_and_they_are_taken_up_again(self):
        for fault, state, words in (
            ("unplugged", "unplugged", "not plugged in"),
            ("busy", "busy", "another program"),
            ("changed", "changed", "instead of"),
        ):
            with self.subTest(fault):
                self.run_for(1)
                self.rack.changes.clear()
                self.studio.set_fault("webcam-2", fault, True)
                during = self.run_for(2)
                self.assertEqual(self.state("webcam-2").state, state)
                self.assertIn(words, self.state("webcam-2").sentence)
                self.assertLess(len(self.of(during, "webcam-2")), 2)
                self.assertGreater(len(self.of(during, "headset")), 190)
                self.studio.set_fault("webcam-2", fault, False)
                after = self.of(self.run_for(2), "webcam-2")
                self.assertEqual(self.state("webcam-2").state, LIVE)
                self.assertGreater(len(after), 20)
                self.assertEqual([d.restarted for d in after[:2]], [True, False])
                self.assertEqual([c.state for c in self.rack.changes], [state, LIVE])

    def test_a_driver_that_breaks_costs_its_device_only(self):
        device = self.state("webcam-2").device
        device.read = lambda: 1 / 0
        found = self.run_for(1)
        self.assertEqual(self.rack.changes[0].state, "fault")
        self.assertIn("ZeroDivisionError", self.rack.changes[0].sentence)
        self.assertGreater(len(self.of(found, "headset")), 90)
        self.assertGreater(len(self.of(found, "webcam-2")), 5)

    def test_an_unplugged_display_takes_its_windows_along(self):
        self.studio.set_fault("display-2", "unplugged", True)
        names = [d.id for d in self.studio.list_devices()]
        self.assertNotIn("display-2/mail", names)
        self.assertIn("display-1/quirefold", names)
        self.studio.set_fault("headset", "busy", True)
        self.assertTrue(next(d for d in self.studio.list_devices() if d.id == "headset").busy)

    def test_lost_frames_are_counted_and_a_clock_that_jumps_is_told(self):
        self.studio.set_fault("webcam-2", "losing", True)
        found = self.of(self.run_for(3), "webcam-2")
        self.assertGreater(sum(d.lost for d in found), 5)
        self.studio.set_fault("webcam-2", "losing", False)
        self.run_for(1)
        self.studio.jump_clock("headset")
        found = self.of(self.run_for(1), "headset")
        self.assertEqual([d.restarted for d in found].count(True), 1)
        self.assertEqual(self.state("headset").jumped, 1)

    def watched(self, seconds=3.0):
        """The webcam's state after some seconds of looking at it ten times a second."""
        watch, now_s = PictureWatch(self.items[0]), 0.0
        for _ in range(int(seconds * 10)):
            newest = self.of(self.run_for(Fraction(1, 10)), "webcam-2")
            watch.take(self.state("webcam-2"), now_s)
            if newest and watch.is_new(newest[-1].capture.no):
                watch.look(newest[-1].capture.data, newest[-1].capture.no, now_s)
            now_s += 0.1
        return watch.state(now_s).words

    def test_a_frozen_and_a_dark_picture_are_seen(self):
        self.assertEqual(self.watched(), "moving")
        for fault, words in (("frozen", "frozen"), ("dark", "dark: no light, or covered")):
            self.studio.set_fault("webcam-2", fault, True)
            self.assertEqual(self.watched(), words)
            self.studio.set_fault("webcam-2", fault, False)

    def test_a_display_that_was_dark_is_seen_again_though_it_stands_still(self):
        def brightness():
            found = self.of(self.run_for(1), "display-2")
            return picture_from_i420(found[-1].capture.data).y.mean()

        before = brightness()
        self.studio.set_fault("display-2", "dark", True)
        self.assertLess(brightness(), 20)
        self.studio.set_fault("display-2", "dark", False)
        self.assertAlmostEqual(brightness(), before, delta=10)

    def test_silent_and_clipping_sounds_are_so(self):
        for fault, check in (
            ("silent", lambda peak: peak == 0.0),
            ("clipping", lambda peak: peak == 1.0),
        ):
            self.studio.set_fault("headset", fault, True)
            found = self.of(self.run_for(4), "headset")
            self.assertTrue(check(max(float(np.abs(d.capture.data).max()) for d in found[5:])))
            self.studio.set_fault("headset", fault, False)
        with self.assertRaisesRegex(DeviceError, "no fault “dark”"):
            self.studio.set_fault("headset", "dark", True)

    def test_what_is_only_looked_at_is_read_less_often_and_what_nobody_does_now_and_then(self):
        self.rack.set_wanted(frozenset({"display-2"}))
        found = self.run_for(4)
        self.assertLess(len(self.of(found, "webcam-2")), 12)
        self.assertGreater(len(self.of(found, "display-2")), 200)
        self.assertGreater(len(self.of(found, "headset")), 390)
        self.assertEqual(sum(d.lost for d in found), 0)
        wanted_ns = self.clock.now_ns()
        self.rack.set_wanted(frozenset({"webcam-2"}))
        found = self.of(self.run_for(1), "webcam-2")
        truth = self.state("webcam-2").device.truth()
        taken_ns = (found[0].capture.device_ns - truth["epoch_ns"]) / (1 + truth["rate_ppm"] * 1e-6)
        # The first frame is no older than the webcam is late: nothing that piled up is given.
        self.assertGreater(taken_ns + truth["latency_ms"] * 1e6 + 6e6, wanted_ns)
        self.assertEqual(sum(d.lost for d in found), 0)
        self.rack.set_wanted(frozenset(), looked_at=frozenset({"webcam-2"}))
        found = self.of(self.run_for(4), "webcam-2")
        self.assertTrue(40 <= len(found) <= 68, len(found))
        self.assertEqual(sum(d.lost for d in found), 0)
        self.studio.set_fault("webcam-2", "losing", True)
        self.assertGreater(sum(d.lost for d in self.of(self.run_for(2), "webcam-2")), 5)
        self.studio.set_fault("webcam-2", "losing", False)
        self.run_for(1)
        jumped = self.state("webcam-2").jumped
        self.studio.jump_clock("webcam-2")
        self.run_for(1)
        self.assertEqual(self.state("webcam-2").jumped, jumped + 1)


class Computer(unittest.TestCase):
    def picture(self, studio, name, at_s=8.9):
        info = next(d for d in studio.list_devices() if d.id == name)
        device = studio.open_device(name, info.modes[0], int(at_s * 1e9))
        return picture_from_i420(device.read().data)

    def test_its_switches_change_what_displays_show_and_what_is_heard(self):
        studio = Studio()
        cases = (
            ("display-2", "messages", np.s_[30:140, 2060:2520]),
            ("display-2", "icons", np.s_[90:900, 20:140]),
            ("display-1", "bar", np.s_[-BAR_PX:, :]),
        )
        for device, key, area in cases:
            before = self.picture(studio, device).y[area].copy()
            studio.switch_surrounding(device, key, False)
            after = self.picture(studio, device).y[area]
            self.assertGreater(np.mean(before != after), 0.05)

    def test_a_window_is_seen_without_what_lies_over_it(self):
        studio = Studio()
        second, window = (self.picture(studio, n) for n in ("display-2", "display-2/messages"))
        left, top = 1680, 60
        over = second.y[top : top + 640, left : left + 820]
        self.assertGreater(np.mean(over[:90, 400:] != window.y[:90, 400:]), 0.2)
        np.testing.assert_array_equal(over[300:], window.y[300:])

    def test_single_sounds_are_without_the_others(self):
        studio = Studio()
        heard = {}
        for name in ("system", "system/quirefold", "system/bench-radio"):
            mode = Mode(sample_rate_hz=48_000, channels=2)
            device = studio.open_device(name, mode, 10 * NS_PER_S)
            heard[name] = np.concatenate([device.read().data for _ in range(150)], axis=1)
        self.assertLess(np.abs(heard["system/quirefold"]).max(), 1e-6)
        self.assertGreater(np.abs(heard["system/bench-radio"]).max(), 0.05)


class OddFiles(unittest.TestCase):
    def test_odd_files_among_the_materials_are_left_out_and_harm_nobody(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        make_material(folder)
        header = b"RIFF\x24\0\0\0WAVEfmt \x10\0\0\0\x01\0\x01\0\x80\xbb\0\0\0\x77\x01\0\x02\0\x10\0"
        (folder / "empty.wav").write_bytes(header + b"data\0\0\0\0")
        (folder / "unknown.wav").write_bytes(header.replace(b"\x01\0\x01\0", b"\x99\x42\x01\0", 1)
                                             + b"data\x08\0\0\0" + b"\0" * 8)  # fmt: skip
        (folder / "cut.mp4").write_bytes((folder / "clip.mp4").read_bytes()[:900])
        (folder / "pipe.wav").symlink_to("/dev/zero")
        os.mkfifo(folder / "fifo.mp4")
        (folder / ".clip.mp4.part.mp4").write_bytes((folder / "clip.mp4").read_bytes())
        (folder / "list.mp4").write_text("ffconcat version 1.0\nfile clip.mp4\n")
        (folder / "nothing.mp4").touch()
        no_text = os.fsencode(folder) + b"/" + b"\xff" * 251 + b".mp4"
        Path(os.fsdecode(no_text)).write_bytes((folder / "clip.mp4").read_bytes())
        write_video(folder / "wide.mkv", 8192, 16)
        write_video(folder / "huge.mkv", 8192, 8192)
        names = {d.name for d in FileDriver(folder).list_devices()}
        self.assertEqual(names, {"clip.mp4", "Sound of clip.mp4", "voice.flac"})

    def test_a_file_that_grows_is_looked_into_once_it_does_not(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        make_material(folder)
        whole = (folder / "clip.mp4").read_bytes()
        driver = FileDriver(folder, waits=False)
        looked = self.enterContext(mock.patch.object(file_driver, "probe_file"))
        for size in range(1, 6):
            (folder / "clip.mp4").write_bytes(whole[: len(whole) * size // 6])
            driver.list_devices()
        self.assertNotIn("clip.mp4", {call.args[0].name for call in looked.call_args_list})
        for _ in range(3):
            driver.list_devices()
        driver._prober.shutdown(wait=True)
        names = [call.args[0].name for call in looked.call_args_list]
        self.assertEqual(sorted({*names}), ["broken.mp4", "clip.mp4", "voice.flac"])
        self.assertEqual(len(names), 3)

    def test_a_file_that_decodes_slowly_holds_up_nobody(self):
        going = threading.Event()

        def frames():
            yield "first"
            going.wait(60)
            yield "second"

        ahead = Ahead(frames())
        self.addCleanup(ahead.close)
        self.addCleanup(going.set)
        self.assertEqual(ahead.next(10.0), "first")
        self.assertIsNone(ahead.next(0.001))
        going.set()
        self.assertEqual(ahead.next(10.0), "second")
        with self.assertRaises(EOFError):
            ahead.next(10.0)

    def test_a_slow_and_a_fast_file_keep_their_time_and_one_that_is_replaced_plays_as_before(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        for fps in (1, 240):
            write_video(folder / f"{fps}.mkv", 64, 48, fps, 4)
            driver = FileDriver(folder)
            info = next(d for d in driver.list_devices() if d.name == f"{fps}.mkv")
            device = driver.open_device(info.id, info.modes[0], 0)
            self.addCleanup(device.close)
            found = [device.read() for _ in range(5)]
            self.assertEqual([c.data[0, 0] for c in found], [40, 50, 60, 70, 40])
            self.assertAlmostEqual(found[-1].device_ns * fps, 4 * NS_PER_S, delta=fps)
            # Another one under its name, of another size, plays in the mode that was chosen.
            write_video(folder / "new.mkv", 32, 80, 30, 1)
            (folder / "new.mkv").replace(folder / f"{fps}.mkv")
            seen = [device.read().data for _ in range(14)]
            self.assertEqual({data.shape for data in seen}, {(72, 64)})
            self.assertEqual({data[0, 0] for data in seen[-3:]}, {40})

    def test_a_file_that_is_emptied_while_it_plays_is_told(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        make_material(folder)
        driver = FileDriver(folder)
        info = next(d for d in driver.list_devices() if d.name == "voice.flac")
        device = driver.open_device(info.id, info.modes[0], 0)
        write_sound_file(folder / "voice.flac", np.zeros((1, 0), np.float32), 48_000)
        with self.assertRaisesRegex(DeviceError, "voice.flac"):
            for _ in range(200):
                device.read()
