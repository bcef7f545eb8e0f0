"""What the studio works out once is there at once for who comes after."""

import re
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from kettle_studio import kept as keeping
from kettle_studio.kept import keep_in, kept, written
from tests.small_disk import small_disk


class Keeping(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.enterContext(mock.patch.object(keeping, "_folder", None))
        self.made = []

    def table(self):
        """The same function, as a process has it that has just been started."""

        def table(number):
            self.made.append(number)
            return np.arange(1000) + number

        return kept(table)

    def test_it_is_made_once_for_all_processes_and_cannot_be_written_to(self):
        keep_in(self.folder)
        for _ in range(3):
            table = self.table()
            np.testing.assert_array_equal(table(7), np.arange(7, 1007))
            written()
            self.assertIs(table(7), table(7))
            with self.assertRaises(ValueError):
                table(7)[0] = 1
        self.assertEqual(self.made, [7])
        self.table()(8)
        written()
        self.assertEqual(self.made, [7, 8])

    def test_what_was_read_leaves_memory_after_a_while_and_can_be_read_again(self):
        keep_in(self.folder)
        table = kept(lambda: np.arange(500_000))
        table()
        written()

        def in_memory_kb():
            found = re.search(rf"{self.folder}.*?\nRss: +(\d+)", smaps.read_text(), re.DOTALL)
            return int(found[1])

        smaps = Path("/proc/self/smaps")
        self.assertEqual(table().sum(), 124_999_750_000)
        self.assertGreater(in_memory_kb(), 3000)
        with mock.patch.object(keeping, "_let_go_at", 0.0):
            array = table()
        self.assertLess(in_memory_kb(), 500)
        self.assertEqual(array.sum(), 124_999_750_000)

    def test_what_another_studio_kept_and_what_is_broken_is_not_read(self):
        with mock.patch.object(keeping, "_digest", lambda: "older"):
            keep_in(self.folder)
            self.table()(1)
            written()
        keep_in(self.folder)
        self.assertFalse((self.folder / "older").exists())
        self.table()(1)
        written()
        (path,) = self.folder.glob("*/*.npy")
        path.write_bytes(path.read_bytes()[:200])
        np.testing.assert_array_equal(self.table()(1), np.arange(1, 1001))
        written()
        self.assertEqual(self.made, [1, 1, 1])

    def test_without_a_folder_or_without_room_it_is_kept_in_memory(self):
        self.assertIs(type(self.table()(1)), np.ndarray)
        with small_disk(self.folder / "disk", 1) as disk:
            keep_in(disk)
            # Room that takes need is not taken.
            np.testing.assert_array_equal(self.table()(2), np.arange(2, 1002))
            written()
            self.assertEqual(list(disk.iterdir()), [])
            with self.assertRaises(OSError):
                (disk / "filled").write_bytes(b"\0" * 2_000_000)
            with mock.patch.object(keeping, "SPARE_BYTES", -1):
                np.testing.assert_array_equal(self.table()(3), np.arange(3, 1003))
                written()
            self.assertEqual([p.name for p in disk.rglob("*") if p.is_file()], ["filled"])
