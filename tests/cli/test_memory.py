"""Memory of processes: what is a process's own, and what it only shares."""

import mmap
import os
import subprocess
import sys
import unittest

import numpy as np

from kettle_cli.memory import own_bytes, pss_bytes, with_children
from kettle_core.errors import KettleError
from tests.fixtures import ROOT

SIZE = 64 << 20


class Memory(unittest.TestCase):
    def test_what_is_made_counts_and_a_file_that_is_looked_at_does_not(self):
        pid, path = os.getpid(), ROOT / "looked-at"
        path.write_bytes(b"\1" * SIZE)
        own, whole = own_bytes(pid), pss_bytes(pid)
        with path.open("rb") as file, mmap.mmap(file.fileno(), 0, prot=mmap.PROT_READ) as looked_at:
            self.assertEqual(sum(looked_at[:: mmap.PAGESIZE]), SIZE // mmap.PAGESIZE)
            self.assertGreater(pss_bytes(pid) - whole, SIZE * 0.9)
            self.assertLess(own_bytes(pid) - own, SIZE * 0.1)
        made = np.ones(SIZE, np.uint8)
        self.assertGreater(own_bytes(pid) - own, SIZE * 0.9)
        del made

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
        self.assertEqual(pss_bytes(process.pid), 0)
        with self.assertRaisesRegex(KettleError, "can't be measured"):
            own_bytes(process.pid)
