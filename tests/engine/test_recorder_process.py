"""The recorder's process as a thread of ours: a disk that takes its time, a start after a death."""

import contextlib
import errno
import math
import os
import shutil
import threading
import time
import unittest
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from unittest import mock

import numpy as np

from kettle_core.program.cues import GoOn, Pause
from kettle_core.rig.devices import Mode
from kettle_core.rig.format import Format
from kettle_core.rig.rig import Input, Rig
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.clock import WallClock
from kettle_engine.devices.report import DeviceFacts
from kettle_engine.recording.drops import BUSY
from kettle_engine.recording.order import TAIL_NS, Order
from kettle_engine.recording.process import run_recorder
from kettle_engine.recording.recorder import Recorder
from kettle_engine.recording.track import HELD_NS
from kettle_engine.rings.ring import RingReader, RingWriter
from kettle_engine.stamps import Arrival, Stamps
from kettle_media import durable
from kettle_media.take.folder import TakeFolder
from kettle_media.take.times import read_times
from tests.fixtures import ROOT

SCREEN = Input("screen", "Screen", "display", "x", Mode(64, 48, Fraction(30)))
VOICE = Input("voice", "Voice", "microphone", "y", Mode(sample_rate_hz=48_000, channels=1))
RIG = Rig("Voice alone", (VOICE,), (), Format(64, 48, Fraction(30)))
FACTS = {"voice": DeviceFacts(11.0, None)}
BLOCK_NS, FRAME_NS = 10_000_000, 33_333_333


class FakeLine:
    """The engine's end of the line, in our hands."""

    def __init__(self):
        self.waiting, self.said = [], []

    def beat(self):
        """Nobody watches."""

    def beating(self, limit_s):
        """Nor here."""
        return contextlib.nullcontext()

    def send(self, *message):
        self.said.append(message)

    send_newest = send

    def receive(self, timeout_s=0.0):
        return self.waiting.pop(0) if self.waiting else None


class AtTheEnd(unittest.TestCase):
    def setUp(self):
        path = ROOT / f"recorder-{self._testMethodName}"
        shutil.rmtree(path, ignore_errors=True)
        self.folder = TakeFolder.create(path)
        self.recorder = self.begun()

    def begun(self):
        rig = replace(RIG, inputs=(SCREEN,))
        return Recorder(self.folder, rig, self.folder.path, at_once=True)

    def take(self, no, lost=0, restarted=False):
        plane = np.full((72, 64), 100, np.uint8)
        at_ns = no * FRAME_NS
        stamps = Stamps(no, at_ns, FRAME_NS, at_ns, lost, restarted=restarted)
        return self.recorder.take("screen", Arrival(**vars(stamps), fetch=lambda: plane), BUSY)

    def test_frames_that_are_missing_before_the_end_are_told_also_if_nothing_comes_after_them(self):
        self.recorder.open_tracks(0)
        self.recorder.begin({})
        self.assertTrue(all(self.take(no) for no in range(10)))
        self.recorder.stop(20 * FRAME_NS + 1)
        # Of 10 to 29 the last nine are not the take's.
        self.assertFalse(self.take(30, lost=20))
        self.assertFalse(self.take(31))
        ended = self.recorder.finish()
        self.assertEqual(ended.notes, ("Screen: 11 of 21 frames were dropped.",))

    def test_what_a_recorder_lost_that_died_is_told_by_the_one_that_goes_on(self):
        self.recorder.open_tracks(0)
        self.recorder.begin({})
        for no in (*range(10), *range(31, 40)):
            self.take(no, restarted=no == 31)
        self.take(44, lost=4)
        self.recorder.tracks["screen"].close()
        self.recorder = self.begun()
        self.recorder.go_on(self.folder.read_info(), 2)
        for no in range(45, 50):
            self.take(no)
        self.take(53, lost=3)
        self.recorder.stop(54 * FRAME_NS)
        ended = self.recorder.finish()
        gap = "Screen: 0.7 s are missing before 0:01, its device was away."
        self.assertEqual(ended.notes, (gap, "Screen: 7 of 33 frames were dropped."))

    def test_one_that_goes_on_tells_of_what_it_came_too_late_for_before_the_end(self):
        self.recorder.open_tracks(0)
        self.recorder.begin({})
        for no in range(10):
            self.take(no)
        track = self.recorder.tracks["screen"]
        track.close()
        rows = read_times(self.folder.times_path(track.info))
        self.recorder = self.begun()
        self.recorder.go_on(self.folder.read_info(), 2)
        self.recorder.tracks["screen"].go_on_after(rows[0], rows[-1], int(rows[-1]["device_ns"]))
        self.recorder.stop(20 * FRAME_NS + 1)
        # Its ring begins with what is not the take's any more.
        self.assertFalse(self.take(30))
        ended = self.recorder.finish()
        self.assertEqual(ended.notes, ("Screen: 11 of 21 frames were dropped.",))


class Recording(unittest.TestCase):
    def setUp(self):
        self.path = ROOT / f"recorder-{self._testMethodName}"
        shutil.rmtree(self.path, ignore_errors=True)
        self.folder = TakeFolder.create(self.path / "take")
        self.clock, self.line = WallClock(), FakeLine()
        self.stopped_ns = math.inf
        self.ring = self.path / "voice.ring"
        self.over, self.going = threading.Event(), threading.Event()
        self.going.set()
        self.playing = threading.Thread(target=self.play, args=(RingWriter(self.ring, VOICE.mode),))
        self.addCleanup(self.playing.join)
        self.addCleanup(self.over.set)
        # Ranking is for processes of their own.
        self.enterContext(mock.patch("kettle_engine.recording.process.rank"))

    def play(self, writer):
        """Blocks of sound as they fall due; all that are late at once after a standstill."""
        no, self.begun_ns = 0, self.clock.now_ns()
        while not self.over.is_set():
            self.going.wait(60)
            due_ns = self.begun_ns + (no + 1) * BLOCK_NS
            self.clock.sleep_until(due_ns)
            stamps = Stamps(no, no * BLOCK_NS, BLOCK_NS, self.clock.now_ns())
            writer.write(np.full((1, 480), 0.1, np.float32), stamps)
            writer.tell(True, due_ns + BLOCK_NS)
            no += 1

    def start(self, goes_on=False, stop=None, start_ns=None, cues=(), later_s=0.0):
        """Order a take; with `later_s` its process takes so long to begin."""
        rings, told_ns = {"voice": str(self.ring)}, self.clock.now_ns()
        start_ns = start_ns or told_ns
        order = Order(
            self.folder.path, RIG, Path("pictures"), 0, self.clock.base_ns, start_ns,
            rings, {}, FACTS, told_ns, goes_on, stop, cues,
        )  # fmt: skip
        self.until(lambda: self.clock.now_ns() >= told_ns + later_s * NS_PER_S)
        if not goes_on:
            self.line.waiting.append(("begin", start_ns, FACTS, rings))
        work = threading.Thread(target=run_recorder, args=(self.line, order))
        if not self.playing.is_alive():
            self.playing.start()
        work.start()
        self.addCleanup(work.join)
        self.addCleanup(lambda: self.line.waiting.append(("stop", self.clock.now_ns())))
        return work

    def until(self, holds):
        deadline = time.monotonic() + 60
        while not holds():
            self.assertLess(time.monotonic(), deadline, self.line.said[-1:])
            time.sleep(0.01)

    def written(self):
        told = [m[1]["tracks"]["voice"]["written"] for m in self.line.said if m[0] == "take"]
        return told[-1] if told else 0

    def stop(self, work):
        self.stopped_ns = self.clock.now_ns()
        self.line.waiting.append(("stop", self.stopped_ns))
        work.join(60)
        ended = self.line.said[-1]
        self.assertEqual((ended[0], ended[1].state), ("ended", "complete"), ended)
        return read_times(self.folder.times_path(self.folder.read_info().tracks[0]))

    def test_a_disk_that_takes_its_time_holds_up_neither_beginning_nor_end_of_a_take(self):
        ready = threading.Event()

        def slow(descriptor):
            ready.wait(600)

        for name in ("fsync", "fdatasync"):
            self.enterContext(mock.patch.object(durable.os, name, slow))
        self.addCleanup(ready.set)
        self.enterContext(mock.patch("kettle_engine.recording.recorder.PATIENCE_S", 0.2))
        work = self.start()
        self.until(lambda: self.written() > 50)
        self.assertEqual(self.folder.read_info().state, "recording")
        rows = self.stop(work)
        self.assertFalse(ready.is_set())
        self.assertEqual(self.folder.read_info().state, "complete")
        self.assertLessEqual(rows["no"][0], 2)
        self.assertTrue(np.all(np.diff(rows["no"]) == 1))

    def test_that_a_pause_ended_while_another_one_was_started_is_heard_in_time(self):
        self.enterContext(mock.patch("kettle_core.timing.pauses.KEPT_NS", 0))
        start_ns, work = self.clock.now_ns(), self.start()
        self.until(lambda: self.written() > 20)
        pause = Pause(self.clock.now_ns() - start_ns)
        self.line.waiting += [("cue", pause), ("stop", self.clock.now_ns() + NS_PER_S // 2)]
        with mock.patch("kettle_engine.recording.recorder.Recorder.finish", lambda *_: None):
            work.join(60)
        # The next one takes its time to begin: the pause has ended before.
        self.line.said.clear()
        at_ns = self.clock.now_ns() + NS_PER_S // 5
        work = self.start(True, start_ns=start_ns, cues=(pause,), later_s=0.4)
        self.until(lambda: self.clock.now_ns() > at_ns + 2 * HELD_NS)
        self.line.waiting.append(("cue", GoOn(at_ns - start_ns)))
        self.until(lambda: self.written() > 40)
        rows = self.stop(work)
        numbers = rows["no"][rows["master_ns"] > at_ns + BLOCK_NS]
        self.assertLessEqual(numbers[0], (at_ns - self.begun_ns) // BLOCK_NS + 3)
        self.assertTrue(np.all(np.diff(numbers) == 1))

    def test_what_comes_while_the_end_is_looked_for_is_written(self):
        case = self

        class Beside(RingReader):
            def read(self):
                got = super().read()
                if got is None and case.clock.now_ns() > case.stopped_ns + TAIL_NS:
                    case.going.set()
                    case.until(lambda: self.due_ns > case.clock.now_ns())
                return got

        self.enterContext(mock.patch("kettle_engine.recording.process.RingReader", Beside))
        work = self.start()
        self.until(lambda: self.written() > 20)
        self.going.clear()
        begun_ns = self.clock.now_ns()
        self.until(lambda: self.clock.now_ns() > begun_ns + NS_PER_S)
        rows = self.stop(work)
        length_ns = rows["device_ns"][-1] - rows["device_ns"][0]
        self.assertGreater(length_ns, self.stopped_ns - begun_ns)

    def test_one_that_died_at_the_end_is_followed_by_one_that_ends_where_the_take_was_stopped(self):
        work = self.start()
        self.until(lambda: self.written() > 20)
        stopped_ns = self.clock.now_ns()
        self.line.waiting.append(("stop", stopped_ns, "stopped"))
        died = mock.patch("kettle_engine.recording.recorder.Recorder.finish", lambda *_: None)
        with died:
            work.join(60)
        self.until(lambda: self.clock.now_ns() > stopped_ns + NS_PER_S // 2)
        self.start(goes_on=True, stop=(stopped_ns, "stopped")).join(60)
        self.assertEqual(self.line.said[-1][1].state, "complete")
        rows = read_times(self.folder.times_path(self.folder.read_info().tracks[0]))
        # One that knew nothing of the stop would have gone on for half a second and more. By its
        # number, as a block may come late.
        end_ns = self.begun_ns + (int(rows["no"][-1]) + 1) * BLOCK_NS
        self.assertLess(abs(end_ns - stopped_ns), 0.45 * NS_PER_S)

    def test_one_that_cannot_go_on_leaves_what_is_there_to_repair_and_says_so(self):
        work = self.start()
        self.until(lambda: self.written() > 20)
        died = mock.patch.object(Recorder, "finish", lambda *_: None)
        self.line.waiting.append(("stop", self.clock.now_ns()))
        with died:
            work.join(60)
        closed = OSError(errno.EROFS, os.strerror(errno.EROFS))
        with mock.patch.object(Recorder, "open_tracks", side_effect=closed):
            self.start(goes_on=True).join(60)
        ended = self.line.said[-1][1]
        self.assertEqual(ended.state, "unfinished")
        self.assertRegex(ended.notes[0], "Read-only file system. What was recorded is there, and")
        self.assertEqual(self.folder.read_info().state, "recording")

    def test_one_that_died_before_it_told_of_the_take_is_followed_by_one_that_does(self):
        # What that one left of its track.
        (self.folder.path / "tracks" / "voice.mkv").write_bytes(b"\x1a\x45")
        (self.folder.path / "tracks" / "voice.times.csv").write_text("")
        work = self.start(goes_on=True)
        self.until(lambda: self.written() > 20)
        self.stop(work)
        (track,) = self.folder.read_info().tracks
        self.assertEqual(track.reported_latency_ms, 11.0)
        self.assertEqual(self.folder.parts(track), [1])
