import shutil
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

from kettle_core.errors import TakeError
from kettle_core.rig.format import Rate
from kettle_engine.recording.order import DISK_RESERVE_BYTES
from kettle_engine.recording.room import LEAST_S, WARN_S, Room, left_in_words
from kettle_media.take.folder import TakeFolder
from kettle_studio.demo import demo_rig

S = 10**9


def rig_of(kbps):
    """The demo rig's display alone, at a constant bitrate."""
    rig = demo_rig()
    screens = replace(rig.format.screens, rate=Rate("constant", kbps=kbps))
    format_ = replace(rig.format, screens=screens)
    display = next(i for i in rig.inputs if i.id == "display-1")
    return replace(rig, inputs=(display,), scenes=(), format=format_)


class Rooms(unittest.TestCase):
    def test_a_take_needs_room_for_two_minutes(self):
        folder = TakeFolder(Path(tempfile.mkdtemp()))
        self.addCleanup(shutil.rmtree, folder.path)
        room = Room(rig_of(8000), DISK_RESERVE_BYTES)
        need = LEAST_S * 1_000_000 * 1.02
        with mock.patch("kettle_engine.recording.room.free_bytes") as free:
            free.return_value = DISK_RESERVE_BYTES + need
            room.check(folder)
            free.return_value = DISK_RESERVE_BYTES + need / 2
            with self.assertRaisesRegex(TakeError, r"room for 6\d s of these tracks; 120 s are"):
                room.check(folder)

    def test_what_is_left_is_told_by_what_was_really_written(self):
        room = Room(rig_of(8000), 0)
        self.assertAlmostEqual(room.left_s(60_000_000), 60, delta=1)
        # At first what is expected counts, then what is.
        self.assertAlmostEqual(room.left_s(60_000_000, 10_000_000, 5 * S), 60, delta=1)
        self.assertAlmostEqual(room.left_s(60_000_000, 40_000_000, 20 * S), 30)
        self.assertEqual(room.left_s(0, 1, 20 * S), 0)

    def test_it_is_said_from_ten_minutes_on(self):
        self.assertEqual(left_in_words(WARN_S), "")
        self.assertIn("room for 10 min more", left_in_words(WARN_S - 1))
        self.assertIn("room for 45 s more", left_in_words(45.2))
