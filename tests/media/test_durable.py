"""Files that are whole or as before, whatever the disk does; lines that nobody waits for."""

import errno
import json
import subprocess
import sys
import tempfile
import threading
import unittest
from pathlib import Path
from unittest import mock

from kettle_media import durable
from kettle_media.durable import LineFile, replace_file, synced_meanwhile, within
from kettle_media.take.folder import ROOM_BYTES, TakeFolder, free_bytes
from tests.fixtures import ROOT, copied_take
from tests.small_disk import small_disk


class Replacing(unittest.TestCase):
    def test_what_was_there_stays_where_there_is_no_room_for_the_new(self):
        with small_disk(ROOT / "replacing", 1) as disk:
            target = disk / "take.json"
            replace_file(target, b"old")
            with self.assertRaisesRegex(OSError, "No space left"):
                replace_file(target, b"x" * 2_000_000)
            self.assertEqual(target.read_bytes(), b"old")
            self.assertEqual(list(disk.iterdir()), [target])

    def test_a_disk_that_does_not_answer_keeps_nobody_who_writes_meanwhile(self):
        hangs, asked, answered = threading.Event(), threading.Event(), []

        def fdatasync(_descriptor):
            asked.set()
            answered.append(hangs.wait(20))

        self.addCleanup(hangs.set)
        path = ROOT / "written-meanwhile"
        path.touch()
        with mock.patch("kettle_media.durable.os.fdatasync", fdatasync):
            with synced_meanwhile(path):
                self.assertTrue(asked.wait(30))
            self.assertEqual(answered, [])

    def test_the_room_kept_for_a_takes_end_is_enough_for_it_on_a_full_disk(self):
        info = copied_take("room").read_info()
        with small_disk(ROOT / "keeping", 2) as disk:
            folder = TakeFolder.create(disk / "take")
            folder.write_info(info)
            folder.keep_room()
            with (disk / "filler").open("wb", buffering=0) as filler:
                while free_bytes(disk):
                    try:
                        filler.write(b"\0" * min(free_bytes(disk), 65_536))
                    except OSError:
                        break
            with self.assertRaises(OSError):
                folder.write_info(info)
            folder.give_room()
            self.assertGreaterEqual(free_bytes(disk), ROOM_BYTES)
            folder.write_info(info)
            self.assertEqual(folder.read_info(), info)


class AtOnce(unittest.TestCase):
    def test_of_several_who_replace_a_file_at_once_one_wins_and_nobody_fails(self):
        target = ROOT / "at-once.json"
        failed = []

        def replace(number):
            try:
                for _ in range(40):
                    durable.replace_file(target, str(number).encode() * 5000, 0)
            except OSError as error:
                failed.append(error)

        threads = [threading.Thread(target=replace, args=(n,)) for n in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(failed, [])
        self.assertEqual(len(set(target.read_text())), 1)
        self.assertEqual(list(ROOT.glob("at-once.json.*")), [])


class SlowDisks(unittest.TestCase):
    def setUp(self):
        self.target = Path(self.enterContext(tempfile.TemporaryDirectory())) / "take.json"
        replace_file(self.target, b"old")

    def have_syncs(self, do):
        for name in ("fsync", "fdatasync"):
            self.enterContext(mock.patch.object(durable.os, name, do))

    def test_a_disk_that_does_not_say_when_it_is_done_is_not_waited_for_for_ever(self):
        done = threading.Event()
        self.addCleanup(done.set)
        self.have_syncs(lambda descriptor: done.wait(600))
        replace_file(self.target, b"new", patience_s=0.1)
        self.assertEqual(self.target.read_bytes(), b"new")
        self.assertFalse(done.is_set())

    def test_a_disk_that_fails_leaves_what_was_there_and_is_told(self):
        def fail(descriptor):
            raise OSError(errno.EIO, "Input/output error")

        self.have_syncs(fail)
        for patience_s in (None, 30.0):
            with self.assertRaisesRegex(OSError, "Input/output error"):
                replace_file(self.target, b"new", patience_s)
            self.assertEqual(self.target.read_bytes(), b"old")
            self.assertEqual(list(self.target.parent.iterdir()), [self.target])

    def test_what_is_waited_for_is_told_apart_from_what_goes_on_beside(self):
        goes_on = threading.Event()
        self.assertTrue(within(30.0, lambda: None))
        self.assertFalse(within(0.05, lambda: goes_on.wait(600) and None))
        goes_on.set()


class Lines(unittest.TestCase):
    def setUp(self):
        self.path = Path(self.enterContext(tempfile.TemporaryDirectory())) / "journal.jsonl"

    def test_lines_of_many_threads_are_all_there_whole(self):
        file = LineFile(self.path)

        def write(who):
            for number in range(200):
                file.write({"who": who, "number": number})

        threads = [threading.Thread(target=write, args=(who,)) for who in range(5)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        file.close()
        rows = [json.loads(line) for line in self.path.read_text().splitlines()]
        for who in range(5):
            self.assertEqual([r["number"] for r in rows if r["who"] == who], list(range(200)))

    def test_a_disk_that_fails_for_a_while_is_told_costs_no_line_and_raises_nothing(self):
        self.path.mkdir()
        file = LineFile(self.path, at_once=True)
        for number in range(3):
            file.write({"number": number})
        self.assertEqual(file.lost, 3)
        self.assertIn("directory", file.error)
        self.path.rmdir()
        file.write({"number": 3})
        rows = [json.loads(line) for line in self.path.read_text().splitlines()]
        self.assertEqual([row["number"] for row in rows], [0, 1, 2, 3])
        self.assertEqual((file.lost, file.error), (0, ""))


class Held(unittest.TestCase):
    def test_a_take_is_held_as_long_as_its_process_lives(self):
        folder = copied_take("held")
        code = (
            "import sys, time; from pathlib import Path\n"
            "from kettle_media.take.folder import TakeFolder\n"
            "with TakeFolder(Path(sys.argv[1])).held():\n"
            "    print('held', flush=True); time.sleep(600)\n"
        )
        command = [sys.executable, "-c", code, str(folder.path)]
        holder = subprocess.Popen(command, stdout=subprocess.PIPE)
        self.addCleanup(holder.stdout.close)
        holder.stdout.readline()
        self.assertTrue(folder.is_held)
        holder.kill()
        holder.wait()
        self.assertFalse(folder.is_held)
