"""A trial from the rings on: what is taken, what goes wrong, what is left behind."""

import contextlib
import multiprocessing
import tempfile
import threading
import time
import unittest
from dataclasses import replace
from datetime import UTC, datetime
from fractions import Fraction
from pathlib import Path
from types import SimpleNamespace
from unittest import mock

import numpy as np

from kettle_core.errors import DeviceError, EngineError, TakeError
from kettle_core.rig.devices import Mode
from kettle_core.rig.format import Rate, TrackFormat
from kettle_core.rig.rig import Input
from kettle_engine.clock import WallClock
from kettle_engine.devices.report import LIVE, OPENING, UNPLUGGED, SourceReport
from kettle_engine.engine import Engine
from kettle_engine.hosts import Hosts
from kettle_engine.questions import Way
from kettle_engine.ring_asks import RingAsks
from kettle_engine.rings.places import RingPlaces
from kettle_engine.rings.ring import RingWriter
from kettle_engine.stamps import Stamps
from kettle_engine.trial import kept as keeping
from kettle_engine.trial.kept import keep_trial, known_bitrates, out_of_date, read_trial
from kettle_engine.trial.running import run_trial
from kettle_engine.trial.sampling import sample
from kettle_engine.viewing.viewer import Viewer
from kettle_studio.demo import demo_rig
from tests.engine.waiting import Waiting
from tests.fixtures import small_rig
from tests.small_disk import small_disk

MODE = Mode(128, 96, Fraction(30))
FRAME_NS = 33_333_333
SCREEN = Input("screen", "Screen", "display", "a", MODE)
RIG = replace(demo_rig(), inputs=(SCREEN,), scenes=())
RNG = np.random.default_rng(4)
FRAMES = RNG.integers(16, 235, (5, 144, 128), dtype=np.uint8)


class TrialCase(Waiting, unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.path = self.folder / "screen.ring"
        self.writer = RingWriter(self.path, MODE)

    @contextlib.contextmanager
    def coming(self, changes=lambda n: True, shape=(144, 128)):
        """Frames come into the ring, 30 a second, until the block ends."""
        over = threading.Event()

        def write():
            number = 0
            while not over.wait(1 / 30):
                at_ns = number * FRAME_NS
                # A device's own clock may say anything.
                told = Stamps(number, -(10**12), FRAME_NS, at_ns, changed=bool(changes(number)))
                rows, columns = shape
                self.writer.write(FRAMES[number % 5][:rows, :columns], told)
                number += 1

        thread = threading.Thread(target=write)
        thread.start()
        try:
            yield
        finally:
            over.set()
            thread.join()


class Sampling(TrialCase):
    def sample(self, seconds=1.0, folder=None):
        place = folder or self.folder
        return sample({"screen": str(self.path)}, {"screen": MODE}, place, seconds)["screen"]

    def test_what_differs_is_kept_once_and_what_repeats_points_at_it(self):
        with self.coming(changes=lambda n: n % 4 == 0):
            found = self.sample()
        # Each frame of that second, whenever somebody came to fetch it.
        self.assertGreater(len(found.of), len(found.frames))
        self.assertTrue(np.all(np.diff(found.at_ns) == FRAME_NS))
        self.assertEqual(len(found.frames), int(found.changed.sum()))
        self.assertTrue(np.all(np.diff(found.of) >= 0) and found.of[-1] == len(found.frames) - 1)
        self.assertTrue(np.all(np.diff(found.at_ns) > 0) and found.at_ns[0] == 0)
        self.assertTrue(any(np.array_equal(found.frames[-1], f) for f in FRAMES))

    def test_an_input_of_which_nothing_comes_is_named(self):
        patience = mock.patch("kettle_engine.trial.sampling.PATIENCE_S", 0.2)
        with patience, self.assertRaisesRegex(DeviceError, "Nothing came from screen"):
            self.sample(0.2)

    def test_one_that_stands_still_at_first_is_waited_for(self):
        def come():
            with self.coming():
                over.wait(60)

        over = threading.Event()
        late = threading.Timer(2.5, come)
        late.start()
        self.addCleanup(late.join)
        self.addCleanup(over.set)
        self.assertGreater(len(self.sample(2.0).frames), 5)

    def test_frames_of_another_mode_are_left_out(self):
        with self.coming(shape=(72, 64)), self.assertRaisesRegex(DeviceError, "Nothing came"):
            self.sample(0.4)

    def test_without_room_on_the_disk_nothing_is_begun(self):
        with small_disk(self.folder / "disk", 8) as disk:
            with self.assertRaisesRegex(TakeError, "no room for a trial"):
                self.sample(folder=disk)
            self.assertEqual(list(disk.iterdir()), [])

    def test_a_disk_that_fills_meanwhile_is_said(self):
        with (
            small_disk(self.folder / "disk", 1) as disk,
            mock.patch("kettle_engine.trial.sampling.free_bytes", return_value=10**12),
            self.coming(),
            self.assertRaisesRegex(TakeError, "cannot be written"),
        ):
            # A dozen frames fit beside it.
            (disk / "others").write_bytes(bytes(800_000))
            self.sample(4.0, disk)


class Running(TrialCase):
    def test_every_setting_is_measured_and_no_frame_is_left_behind(self):
        told = []
        with self.coming():
            frames = self.folder / "frames"
            found = run_trial(
                RIG, {"screen": str(self.path)}, frames, lambda *t: told.append(t), 1.0
            )
        self.assertFalse(frames.exists())
        (one,) = found.inputs
        self.assertEqual((len(one.points), len(one.crops)), (6, 7))
        self.assertEqual(one.points[one.present].track, RIG.format.screens)
        self.assertEqual(told[-1][1], 8)
        self.assertGreater(found.head_room, 0)
        kbps = [p.kbps for p in one.points]
        self.assertEqual(kbps, sorted(kbps))
        self.keeps(found)

    def keeps(self, found):
        """What was found is read back equal, and tells of bitrates until the rig is another."""
        folder = self.folder / "kept"
        written = keep_trial(folder, RIG, found, datetime.now(UTC))
        read = read_trial(folder)
        self.assertEqual(read, written)
        self.assertEqual(out_of_date(RIG, read), [])
        self.assertEqual(len(known_bitrates(RIG, read)["screen"]), 6)
        larger = replace(SCREEN, mode=replace(MODE, width=256))
        other = replace(RIG, inputs=(larger,))
        self.assertIn("Screen was 128 × 96 px · 30 fps then.", out_of_date(other, read))
        self.assertEqual(known_bitrates(other, read), {})
        odd = replace(RIG, format=replace(
            RIG.format, screens=TrackFormat(Rate("constant", 18, 777))))  # fmt: skip
        self.assertIn("was not tried", " ".join(out_of_date(odd, read)))
        with mock.patch.object(keeping, "machine_name", return_value="another"):
            self.assertEqual(known_bitrates(RIG, read), {})

    def test_one_that_is_cancelled_ends_at_once_and_leaves_nothing(self):
        class Enough(Exception):  # noqa: N818  not an error
            pass

        def tell(done, _total):
            if done:
                raise Enough

        with self.coming(), self.assertRaises(Enough):
            run_trial(RIG, {"screen": str(self.path)}, self.folder / "frames", tell, 0.5)
        self.assertFalse((self.folder / "frames").exists())

    def test_where_who_asked_is_killed_it_ends_and_leaves_no_frames(self):
        frames = self.folder / "frames"
        asks = multiprocessing.get_context("spawn").Process(
            target=run_trial, args=(RIG, {"screen": str(self.path)}, frames, print, 1.0)
        )
        with self.coming():
            asks.start()
            self.until(lambda: frames.exists() and any(frames.iterdir()))
            asks.kill()
            asks.join()
            self.until(lambda: not frames.exists())

    def test_what_fails_in_its_process_is_the_error_here(self):
        # What comes is of another mode than the rig has.
        with self.coming(shape=(72, 64)), self.assertRaisesRegex(DeviceError, "Nothing came"):
            rings = {"screen": str(self.path)}
            run_trial(RIG, rings, self.folder / "frames", lambda *_: None, 0.2)
        self.assertFalse((self.folder / "frames").exists())


class Unwatched(Waiting, unittest.TestCase):
    """A trial whose page was left: nobody looks at the rig that it has opened."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def test_the_rig_stays_open_until_its_rings_are_given(self):
        engine = Engine(self.folder, places=RingPlaces(self.folder), with_pages=False)
        self.addCleanup(engine.close)
        answers = []
        engine.ask_rings(small_rig(), Way(answers.append, time.monotonic_ns() + 60 * 10**9))
        engine._hear_viewer("unwatched")

        def answered():
            engine.step(0.05)
            return answers

        self.until(answered)
        self.assertEqual(set(answers[0]), {"display-1", "webcam-1"}, answers)

    def test_who_opens_a_rig_has_time_to_look_at_it(self):
        said = []
        line = SimpleNamespace(send=lambda *message: said.append(message[0]))
        address = mock.patch("kettle_engine.viewing.viewer.live_address", lambda _: "inproc://left")
        with address:
            viewer = Viewer(line, self.folder, WallClock())
        self.addCleanup(viewer._publisher.close)
        viewer._publisher.watched_at_s -= 3600
        rig = small_rig()
        viewer._open(rig, rig.inputs, "")
        viewer._tell_states()
        self.assertNotIn("unwatched", said)


class Asking(unittest.TestCase):
    def setUp(self):
        self.hosts = mock.Mock(reports={})
        self.hosts.is_missing = lambda item: Hosts.is_missing(self.hosts, item)
        self.asks, self.answers = RingAsks(self.hosts), []
        self.way = Way(self.answers.append, time.monotonic_ns() + 10**10)

    def report(self, state):
        self.hosts.reports = {"screen": SourceReport(state, "", 0, 0, "/ring", None)}

    def test_it_is_answered_once_all_are_live_and_their_pictures_come_until_then(self):
        self.asks.ask(RIG, self.way)
        self.assertEqual(self.asks.wanted, {"screen"})
        self.report(OPENING)
        self.asks.tick()
        self.assertEqual(self.answers, [])
        self.report(LIVE)
        self.asks.tick()
        self.assertEqual(self.answers, [{"screen": "/ring"}])
        with mock.patch("time.monotonic", return_value=time.monotonic() + 60):
            self.assertTrue(self.asks.tick())
        self.assertEqual(self.asks.wanted, set())

    def test_one_that_opens_slowly_is_waited_for_and_one_that_is_away_is_not(self):
        def later(seconds):
            return mock.patch("time.monotonic", return_value=time.monotonic() + seconds)

        self.report(OPENING)
        self.asks.ask(RIG, self.way)
        with later(10):
            self.asks.tick()
            self.assertEqual(self.answers, [])
            self.report(LIVE)
            self.asks.tick()
            self.assertEqual(self.answers.pop(), {"screen": "/ring"})
        with later(10 + 8):
            self.asks.tick()
            self.assertEqual(self.asks.wanted, {"screen"})
        self.report(UNPLUGGED)
        self.asks.ask(RIG, self.way)
        with later(5):
            self.asks.tick()
        self.assertIn("Screen cannot be seen", str(self.answers[0]))

    def test_a_device_that_does_not_come_is_named(self):
        self.asks.ask(RIG, self.way)
        with mock.patch("time.monotonic", return_value=time.monotonic() + 60):
            self.asks.tick()
        self.assertIsInstance(self.answers[0], EngineError)
        self.assertIn("Screen cannot be seen", str(self.answers[0]))

    def test_without_a_picture_there_is_nothing_to_try(self):
        silent = replace(RIG, inputs=(replace(SCREEN, recorded=False),))
        with self.assertRaisesRegex(EngineError, "nothing to try"):
            self.asks.ask(silent, self.way)
