"""An export whose process was killed goes on from what it had; nothing else is taken over."""

import gc
import multiprocessing
import os
import signal
import unittest
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

import av
import numpy as np

from kettle_core.assembly.cut_list import CutList, Piece
from kettle_core.assembly.export import Export
from kettle_core.rig.format import Format
from kettle_media.assembly import export_file
from kettle_media.assembly.export_file import export, spool_beside
from kettle_media.program.cells import Cell
from kettle_media.program.renderer import Renderer
from kettle_media.program.spool import Spool
from tests.fixtures import demo_take

S = 10**9
SMALL = Format(320, 180)
ORDER = Export("mp4", 480, crf=30, speed="ultrafast", lufs=None)


def killed(takes, cuts, order, target, at):
    """Exports until so many frames are done; then the process is gone."""

    def tell(done, _):
        if done >= at:
            os.kill(os.getpid(), signal.SIGKILL)

    export(takes, cuts, SMALL, order, target, tell)


class GoesOn(unittest.TestCase):
    def setUp(self):
        self.room = Path(self.enterContext(TemporaryDirectory()))
        folder = demo_take(4)
        self.take = folder.read_info().id
        self.takes = {self.take: folder}
        # 60 frames, and 120 others.
        slow = Piece("p2", self.take, 0, 2 * S, percent=50)
        self.cuts = CutList((Piece("p1", self.take, 0, 2 * S), slow))
        self.target = self.room / "lesson.mp4"

    def kill(self, order=ORDER, at=100):
        # A filter of libav's that is collected in a forked process waits for threads it has not.
        gc.collect()
        process = multiprocessing.get_context("fork").Process(
            target=killed, args=(self.takes, self.cuts, order, self.target, at)
        )
        process.start()
        process.join(120)
        self.assertEqual(process.exitcode, -signal.SIGKILL)

    def make(self, order=ORDER, frames=180):
        """Gives which frames were drawn for the file, those that are looked at apart."""
        drawn = []
        draw = Renderer.frames

        def counted(renderer, numbers):
            numbers = list(numbers)
            drawn.extend(numbers)
            return draw(renderer, numbers)

        with mock.patch.object(Renderer, "frames", counted):
            made = export(self.takes, self.cuts, SMALL, order, self.target)
        self.assertTrue(all(found.good for found in made.findings), made.findings)
        self.assertEqual(list(self.room.iterdir()), [self.target])
        with av.open(str(self.target)) as file:
            self.assertEqual(sum(1 for _ in file.decode(video=0)), frames)
        return drawn

    def test_what_was_encoded_before_is_not_encoded_again(self):
        self.kill()
        self.assertTrue(spool_beside(self.target).exists())
        self.assertFalse(self.target.exists())
        # The last group of frames was not whole yet.
        self.assertEqual(self.make(), list(range(60, 180)))
        self.assertEqual(self.make(), list(range(180)))

    def test_other_codecs_go_on_too(self):
        for kind, control in (("webm", "constant"), ("av1", "ceiling")):
            with self.subTest(kind):
                self.target = self.room / f"lesson.{kind}"
                order = replace(ORDER, kind=kind, control=control, kbps=400)
                self.kill(order)
                self.assertEqual(self.make(order), list(range(60, 180)))
            self.target.unlink(missing_ok=True)

    def test_a_bitrate_that_is_kept_at_every_moment_is_kept_over_the_interruption(self):
        for control, buffer_kbit in (("ceiling", 400), ("constant", 80)):
            with self.subTest(control):
                order = replace(ORDER, control=control, kbps=400, crf=8)
                self.kill(order)
                self.assertEqual(self.make(order), list(range(60, 180)))
                with av.open(str(self.target)) as file:
                    sizes = [p.size * 8 / 1000 for p in file.demux(video=0) if p.size]
                for first in range(len(sizes)):
                    seconds = np.arange(1, len(sizes) - first + 1) / 30
                    took = np.cumsum(sizes[first:])
                    self.assertLessEqual((took - 400 * seconds).max(), buffer_kbit, first)
                    if control == "constant":
                        # The first frames take what the buffer had.
                        few = 400 * seconds[: len(took)] - took
                        self.assertLessEqual(few.max(), buffer_kbit, first)
                self.target.unlink()

    def test_with_a_largest_size_it_goes_on_in_the_try_that_it_was_at(self):
        # More than is taken: what quality does not take is asked for once more.
        order = replace(ORDER, max_mb=0.6)
        self.kill(order, at=180 + 100)
        drawn = self.make(order)
        self.assertEqual(drawn[:120], list(range(60, 180)))
        self.assertEqual(drawn[120:], list(range(180)) * (len(drawn) // 180))
        # What was tried of other cuts says nothing.
        self.kill(order, at=180 + 100)
        shorter = replace(self.cuts.pieces[0], until_ns=2 * S - S // 10)
        self.cuts = CutList((shorter, self.cuts.pieces[1]))
        self.assertEqual(self.make(order, frames=177)[:177], list(range(177)))

    def test_what_fails_for_another_reason_leaves_no_spool(self):
        with (
            suppress(OSError),
            mock.patch.object(export_file, "check_export", side_effect=OSError("no")),
        ):
            export(self.takes, self.cuts, SMALL, ORDER, self.target)
        self.assertEqual(list(self.room.iterdir()), [])

    def test_where_it_is_is_seen(self):
        picture, seen = self.room / "at.jpg", []

        def tell(done, _):
            if picture.exists():
                with av.open(str(picture)) as file:
                    seen.append((file.streams.video[0].width, file.streams.video[0].height))

        export(self.takes, self.cuts, SMALL, ORDER, self.target, tell, picture=picture)
        self.assertEqual(set(seen), {(320, 180)})
        self.assertFalse(picture.exists())


class Spools(unittest.TestCase):
    # A sequence and a picture header, as an encoder tells them.
    HEADERS = (b"\x67\x64\x00", b"\x68\xee")

    def setUp(self):
        self.path = Path(self.enterContext(TemporaryDirectory())) / "spool"
        self.cells = [Cell(0, 2, "one"), Cell(2, 4, "two"), Cell(4, 6, "three")]
        spool = self.opened()
        for cell in self.cells:
            packets = [(bytes([n]) * 50, cell.first + n, not n) for n in range(2)]
            spool.keep(cell, packets)
        spool.close()

    def opened(self, headers=HEADERS):
        spool = Spool(self.path)
        self.addCleanup(spool.close)
        spool.open(headers)
        return spool

    def there(self, spool):
        return [cell.key for cell in self.cells if spool.packets(cell)]

    def test_cells_are_taken_over_wherever_they_lie_by_then(self):
        packets = self.opened().packets(Cell(100, 102, "two"))
        self.assertEqual([(bytes(p)[0], n, p.is_keyframe) for p, n in packets],
                         [(0, 100, True), (1, 101, False)])  # fmt: skip

    def test_what_is_damaged_or_cut_short_counts_as_not_there_and_is_written_anew(self):
        data = self.path.read_bytes()
        third = data.index(b'"three"')
        for damaged in (data[: third + 60], data[:-1] + b"x"):
            self.path.write_bytes(damaged)
            spool = self.opened()
            self.assertEqual(self.there(spool), ["one", "two"])
            spool.keep(self.cells[2], [(b"a", 4, True), (b"b", 5, False)])
            spool.close()
            self.assertEqual(self.there(self.opened()), ["one", "two", "three"])
        for nothing in (b"", b"\0\0\0\5nothing", os.urandom(500)):
            self.path.write_bytes(nothing)
            self.assertEqual(self.there(self.opened()), [])

    def test_packets_of_other_settings_are_not_taken_over(self):
        other = (self.HEADERS[0], b"\x68\xef")
        self.assertEqual(self.there(self.opened(other)), [])
        self.assertEqual(self.there(self.opened()), [])
