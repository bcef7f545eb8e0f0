"""What processes and other machines take: of memory a process's own, and what it shares."""

import mmap
import os
import subprocess
import sys
import unittest
from pathlib import Path
from unittest import mock

from kettle_cli.usage import pss_bytes, rss_bytes, stolen_s, with_children
from tests.fixtures import ROOT

SIZE = 64 << 20


class Memory(unittest.TestCase):
    def test_what_two_processes_look_at_is_shared_between_them_and_resident_in_both(self):
        path = ROOT / "looked-at"
        path.write_bytes(b"\1" * SIZE)
        first = self.looker(path)
        alone, resident = pss_bytes(first.pid), rss_bytes(first.pid)
        self.assertGreater(alone, SIZE)
        second = self.looker(path)
        self.assertLess(pss_bytes(first.pid), alone - 0.4 * SIZE)
        for process in (first, second):
            self.assertAlmostEqual(rss_bytes(process.pid), resident, delta=0.1 * SIZE)

    def looker(self, path):
        """A process that has looked at all of a file."""
        code = (
            "import mmap, sys\n"
            f"with open({str(path)!r}, 'rb') as file:\n"
            "    held = mmap.mmap(file.fileno(), 0, prot=mmap.PROT_READ)\n"
            "print(sum(held[::mmap.PAGESIZE]), flush=True)\n"
            "sys.stdin.read()\n"
        )
        process = subprocess.Popen(
            [sys.executable, "-c", code], stdin=subprocess.PIPE, stdout=subprocess.PIPE
        )
        self.addCleanup(process.communicate)
        self.assertEqual(int(process.stdout.readline()), SIZE // mmap.PAGESIZE)
        return process

    def test_processes_are_counted_with_what_they_started_while_they_live(self):
        sleeper = "import time; time.sleep(60)"
        parent = f"import subprocess, sys; subprocess.run([sys.executable, '-c', '{sleeper}'])"
        process = subprocess.Popen([sys.executable, "-c", parent])
        try:
            while len(found := with_children(process.pid)) < 2:
                self.assertIsNone(process.poll())
            self.assertEqual(found[0], process.pid)
            os.kill(found[1], 9)
        finally:
            process.wait(60)
        self.assertEqual((pss_bytes(process.pid), rss_bytes(process.pid)), (0, 0))

    def test_what_other_machines_took_is_told_where_it_is_known(self):
        hz = os.sysconf("SC_CLK_TCK")
        told = f"cpu  1 2 3 4 5 6 7 {3 * hz} 9 10\ncpu0 1 2 3 4 5 6 7 8 9 10\n"
        with mock.patch.object(Path, "read_text", return_value=told):
            self.assertEqual(stolen_s(), 3.0)
        with mock.patch.object(Path, "read_text", side_effect=FileNotFoundError):
            self.assertEqual(stolen_s(), 0.0)
