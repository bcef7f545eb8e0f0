"""Rings by their promises: what is read is what was written, what is gone is counted."""

import os
import struct
import subprocess
import sys
import tempfile
import time
import unittest
from fractions import Fraction
from pathlib import Path
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from kettle_core.errors import EngineError
from kettle_core.rig.devices import Event, Mode
from kettle_engine.rings import ring as rings
from kettle_engine.rings.ring import MOST_UNSENT, RingReader, RingWriter, ring_size
from kettle_engine.stamps import Stamps

SMALL = Mode(16, 8, Fraction(30))
VOICE = Mode(sample_rate_hz=8000, channels=1)
FRAME = (12, 16)


def frame(number):
    return np.full(FRAME, number % 251, np.uint8)


def write(writer, number, **more):
    told = {name: more.pop(name) for name in ("changed", "restarted") if name in more}
    writer.write(frame(number), Stamps(number, number * 10, 10, number * 1000, **told), **more)


def write_for_ever(path):
    writer, number = RingWriter(path, SMALL), 0
    while True:
        write(writer, number)
        number += 1
        time.sleep(0.0002)


class Rings(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.path = self.folder / "a.ring"

    @given(st.lists(st.tuples(st.integers(0, 90), st.integers(0, 90)), min_size=1, max_size=12))
    @settings(max_examples=60)
    def test_a_reader_gets_all_in_order_or_is_told_how_many_are_gone(self, turns):
        path = Path(tempfile.mkdtemp(dir=self.folder)) / "a.ring"
        writer = RingWriter(path, SMALL, deep=False)
        reader = RingReader(path)
        written = seen = 0
        for writes, reads in turns:
            for _ in range(writes):
                write(writer, written, changed=written % 3 > 0)
                written += 1
            for _ in range(reads):
                got = reader.read()
                if got is None:
                    self.assertEqual(seen, written)
                    break
                seen += got.missed
                self.assertEqual((got.no, got.master_ns), (seen, seen * 1000))
                data = got.fetch()
                if data is not None:
                    # An equal picture is the one before it.
                    shown = seen if seen % 3 or seen == 0 else seen - 1
                    np.testing.assert_array_equal(data, frame(shown))
                seen += 1

    def test_blocks_of_any_length_come_as_they_were(self):
        writer = RingWriter(self.path, VOICE)
        reader = RingReader(self.path)
        rng = np.random.default_rng(1)
        for number in range(500):
            block = rng.standard_normal((1, int(rng.integers(1, 1200)))).astype(np.float32)
            writer.write(block, Stamps(number, 0, 0, 0))
            np.testing.assert_array_equal(reader.read().fetch(), block)

    def test_data_that_was_overwritten_is_not_given_but_its_times_are(self):
        writer = RingWriter(self.path, SMALL, deep=False)
        reader = RingReader(self.path)
        for number in range(20):
            write(writer, number)
        got = [reader.read() for _ in range(20)]
        self.assertEqual([g.no for g in got], list(range(20)))
        there = [g.fetch() is not None for g in got]
        self.assertEqual(
            there, [False] * (20 - rings.SHALLOW_FRAMES) + [True] * rings.SHALLOW_FRAMES
        )

    def test_data_are_looked_at_where_they_lie_if_they_stay_and_a_copy_is_made_of_the_last(self):
        writer = RingWriter(self.path, SMALL)
        reader, held = RingReader(self.path), ring_size(SMALL).data_bytes // frame(0).size
        for number in range(held):
            write(writer, number)
        found = [reader.read() for _ in range(held)]
        shared = []
        for got in found:

            def look(data, no=got.no):
                np.testing.assert_array_equal(data, frame(no))
                shared.append(np.shares_memory(data, reader._ring.data))

            self.assertTrue(got.use(look))
        copied = round(held * rings.LASTING)
        self.assertEqual(shared, [False] * copied + [True] * (held - copied))
        # Who takes too long is told that it was written over meanwhile.
        newest = found[-1]
        self.assertFalse(newest.use(lambda _: [write(writer, n) for n in range(held, 2 * held)]))
        self.assertFalse(newest.use(lambda _: self.fail("It is gone.")))

    def test_events_come_along_and_what_does_not_fit_comes_later(self):
        writer = RingWriter(self.path, SMALL)
        reader = RingReader(self.path)
        events = [Event(n, "pointer", {"x": n, "y": 2 * n}) for n in range(100)]
        write(writer, 0, events=events)
        for number in range(1, 12):
            write(writer, number)
        came = [event for _ in range(12) for event in reader.read().events]
        self.assertEqual(came, events)

    def test_a_pointer_that_is_faster_than_its_room_is_thinned_and_nothing_else_is_lost(self):
        writer, reader = RingWriter(self.path, SMALL), RingReader(self.path)
        came, waiting = [], []
        # Of a thousand moves a tenth of a second, each with a key after it.
        for number in range(60):
            at = range(1000 * number, 1000 * number + 1000)
            moves = [Event(n, "pointer", {"x": n / 7, "y": n / 3}) for n in at]
            write(writer, number, events=[*moves, Event(at[-1], "key", {"key": "a"})])
            came += reader.read().events
            waiting.append(len(writer._unsent))
        self.assertLess(max(waiting), 4 * MOST_UNSENT)
        while waiting[-1]:
            write(writer, len(waiting))
            came += reader.read().events
            waiting.append(len(writer._unsent))
        self.assertEqual(sum(event.kind == "key" for event in came), 60)
        times = [event.device_ns for event in came]
        self.assertEqual(times, sorted(times))

    def test_a_reader_can_begin_with_what_came_before_it(self):
        writer = RingWriter(self.path, SMALL)
        for number in range(30):
            write(writer, number)
        self.assertEqual(RingReader(self.path, 25_000).read().no, 25)
        self.assertEqual(RingReader(self.path, 0).read().no, 0)
        self.assertEqual(RingReader(self.path).waiting, 0)
        self.assertEqual(RingReader(self.path).find(17).master_ns, 17_000)

    def test_the_last_seconds_are_given_as_far_as_they_are_there_and_take_nothing_away(self):
        writer, reader = RingWriter(self.path, VOICE), RingReader(self.path)
        self.assertEqual(reader.recent(1.0), [])
        samples, rate_hz = 480, VOICE.sample_rate_hz
        for number in range(2500):
            block = np.full((1, samples), number, np.float32)
            writer.write(block, Stamps(number, 0, 0, number * samples * 10**9 // rate_hz))
        numbers = [int(block[0, 0]) for block in reader.recent(2.0)]
        self.assertEqual(numbers, list(range(2500 - len(numbers), 2500)))
        self.assertEqual(len(numbers), 2 * rate_hz // samples + 1)
        kept_s = len(reader.recent(60.0)) * samples / rate_hz
        self.assertAlmostEqual(kept_s, rings.SOUND_S, delta=0.1)
        self.assertEqual(reader.waiting, 2500)

    def test_a_writer_that_takes_over_goes_on_and_says_so(self):
        write(RingWriter(self.path, SMALL), 1)
        reader = RingReader(self.path)
        second = RingWriter(self.path, SMALL)
        write(second, 7)
        write(second, 8)
        self.assertEqual([(g.no, g.restarted) for g in (reader.read(), reader.read())],
                         [(7, True), (8, False)])  # fmt: skip

    def test_without_memory_it_says_how_much_is_needed(self):
        needed = ring_size(Mode(1920, 1080, Fraction(30))).total_bytes
        full = OSError(28, "No space left on device")
        with (
            mock.patch.object(os, "posix_fallocate", side_effect=full),
            self.assertRaisesRegex(EngineError, f"{needed / 1e6:.0f} MB are needed"),
        ):
            RingWriter(self.path, Mode(1920, 1080, Fraction(30)))
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_a_ring_is_bounded_by_seconds_and_by_bytes(self):
        for mode, most in (
            (Mode(640, 360, Fraction(30)), 31),
            (Mode(1920, 1080, Fraction(60)), 61),
            (Mode(3840, 2160, Fraction(30)), 31),
        ):
            frames = ring_size(mode).data_bytes // (mode.width * mode.height * 3 // 2)
            self.assertLess(frames, most)
            self.assertGreaterEqual(frames, rings.LEAST_FRAMES)
            self.assertLess(ring_size(mode).total_bytes, 140e6)

    def test_what_is_no_ring_is_refused(self):
        self.path.write_bytes(b"\0" * 10_000)
        with self.assertRaisesRegex(EngineError, "no ring"):
            RingReader(self.path)
        self.path.write_bytes(b"\0" * 10)
        with self.assertRaisesRegex(EngineError, "shorter"):
            RingReader(self.path)


class TwoProcesses(unittest.TestCase):
    """A writer that never stops for anybody, and readers that are slow, or die with it."""

    def setUp(self):
        self.path = Path(self.enterContext(tempfile.TemporaryDirectory())) / "a.ring"
        RingWriter(self.path, SMALL)
        code = (
            f"from tests.engine import test_ring as t; t.write_for_ever(t.Path({str(self.path)!r}))"
        )
        self.writer = subprocess.Popen([sys.executable, "-c", code])
        self.addCleanup(self.writer.wait)
        self.addCleanup(self.writer.kill)
        self.reader = RingReader(self.path)
        deadline = time.monotonic() + 60
        while self.reader.waiting < 100:
            self.assertLess(time.monotonic(), deadline)
            time.sleep(0.01)

    def gone_round(self):
        """Wait until the writer has written over all that is in the ring now."""
        frames = ring_size(SMALL).data_bytes // frame(0).nbytes + 1
        until, deadline = self.reader.head + frames, time.monotonic() + 60
        while self.reader.head < until:
            self.assertLess(time.monotonic(), deadline)
            time.sleep(0.001)

    def test_a_reader_never_sees_half_a_frame_and_all_that_is_missing_is_counted(self):
        at, whole = None, 0
        for turn in range(4000):
            got = self.reader.read()
            if got is None:
                continue
            data = got.fetch()
            at = got.no if at is None else at + 1 + got.missed
            self.assertEqual(got.no, at)
            if data is not None:
                np.testing.assert_array_equal(data, frame(got.no))
                whole += 1
            if turn % 400 == 0:
                time.sleep(0.05)
        self.assertGreater(whole, 10)

    def test_a_reader_that_looks_at_data_where_they_lie_is_told_if_they_did_not_stay(self):
        whole = torn = 0
        for turn in range(4000):
            slow = turn % 400 == 0
            got = self.reader.newest() if slow else self.reader.read()
            if got is None:
                continue
            seen = []

            def look(data, slow=slow, seen=seen):
                seen.append(data[:4].copy())
                if slow:
                    self.gone_round()
                seen.append(data[4:].copy())

            if got.use(look):
                np.testing.assert_array_equal(np.concatenate(seen), frame(got.no))
                whole += 1
            elif seen:
                torn += 1
        self.assertGreater(whole, 10)
        self.assertGreater(torn, 0)

    def test_a_writer_that_was_killed_leaves_what_it_wrote_and_another_goes_on(self):
        self.writer.kill()
        self.writer.wait()
        found = []
        while got := self.reader.read():
            found.append(got)
        for got in found[-rings.LEAST_FRAMES :]:
            np.testing.assert_array_equal(got.fetch(), frame(got.no))
        # As if it had died within an entry.
        head = self.reader.head
        with self.path.open("r+b") as file:
            file.seek(self.reader._ring.entry_at(head))
            file.write(struct.pack("<q", 0))
        write(RingWriter(self.path, SMALL), 12_345)
        self.assertEqual(self.reader.read().no, 12_345)
