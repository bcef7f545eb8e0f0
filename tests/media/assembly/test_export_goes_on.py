"""An export whose process was killed goes on from what it had; nothing else is taken over."""

import multiprocessing
import os
import signal
import unittest
from contextlib import suppress
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

import av

from kettle_core.assembly.cut_list import CutList, Piece
from kettle_core.assembly.export import Export
from kettle_core.rig.format import Format
from kettle_media.assembly import export_file
from kettle_media.assembly.export_file import export, spool_beside
from kettle_media.program.renderer import Renderer
from tests.fixtures import demo_take

S = 10**9
SMALL = Format(320, 180)
ORDER = Export("mp4", 480, crf=30, speed="ultrafast", lufs=None)


def killed(takes, cuts, target, at):
    """Exports until so many frames are done; then the process is gone."""

    def tell(done, _):
        if done >= at:
            os.kill(os.getpid(), signal.SIGKILL)

    export(takes, cuts, SMALL, ORDER, target, tell)


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

    def kill(self, at=100):
        process = multiprocessing.get_context("fork").Process(
            target=killed, args=(self.takes, self.cuts, self.target, at)
        )
        process.start()
        process.join(120)
        self.assertEqual(process.exitcode, -signal.SIGKILL)

    def make(self, order=ORDER):
        """Gives how many frames were drawn for the file, those that are looked at apart."""
        drawn = []
        frames = Renderer.frames

        def counted(renderer, numbers):
            numbers = list(numbers)
            drawn.extend(numbers)
            return frames(renderer, numbers)

        with mock.patch.object(Renderer, "frames", counted):
            made = export(self.takes, self.cuts, SMALL, order, self.target)
        self.assertTrue(all(found.good for found in made.findings), made.findings)
        self.assertEqual([path.name for path in self.room.iterdir()], ["lesson.mp4"])
        with av.open(str(self.target)) as file:
            self.assertEqual(sum(1 for _ in file.decode(video=0)), 180)
        return len(drawn)

    def test_what_was_encoded_before_is_not_encoded_again(self):
        self.kill()
        self.assertTrue(spool_beside(self.target).exists())
        self.assertFalse(self.target.exists())
        # The last group of frames was not whole yet.
        self.assertEqual(self.make(), 120)
        self.assertEqual(self.make(), 180)

    def test_a_spool_that_is_damaged_or_of_another_order_is_begun_anew(self):
        self.kill()
        spool = spool_beside(self.target)
        data = bytearray(spool.read_bytes())
        data[len(data) // 2] ^= 255
        spool.write_bytes(bytes(data))
        self.assertGreater(self.make(), 120)
        self.kill()
        other = Export("mp4", 480, crf=20, speed="veryfast", lufs=None)
        self.assertEqual(self.make(other), 180)
        spool.write_bytes(b"\0\0\0\5nothing")
        self.assertEqual(self.make(), 180)

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
