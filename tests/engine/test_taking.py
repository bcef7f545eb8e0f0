"""Long work waits while a take is counted down or recorded."""

import subprocess
import sys
import tempfile
import threading
import time
import unittest
from pathlib import Path

from kettle_engine.taking import GivingWay, TakingFlag
from tests.engine.waiting import Waiting

HOLDER = """
import sys, time
from pathlib import Path
from kettle_engine.taking import TakingFlag
TakingFlag(Path(sys.argv[1])).put(True)
print("held", flush=True)
time.sleep(600)
"""


class GivesWay(Waiting, unittest.TestCase):
    def setUp(self):
        self.data = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.told, self.steps = [], 0
        self.over = threading.Event()
        self.give_way = GivingWay(self.data, self.told.append)
        self.work = threading.Thread(target=self.run_work)
        self.addCleanup(self.work.join)
        self.addCleanup(self.over.set)

    def run_work(self):
        while not self.over.is_set():
            self.give_way()
            self.steps += 1
            time.sleep(0.005)

    def test_work_stands_still_while_a_take_is_recorded_and_goes_on_after(self):
        flag = TakingFlag(self.data)
        self.work.start()
        self.until(lambda: self.steps > 5)
        while self.told != [True]:
            flag.put(True)
            self.until(lambda: self.told == [True] or not flag.is_up)
        before = self.steps
        time.sleep(0.5)
        self.assertEqual(self.steps, before)
        flag.put(False)
        self.until(lambda: self.steps > before + 5)
        self.assertEqual(self.told, [True, False])

    def test_an_engine_that_was_killed_holds_up_nobody(self):
        command = [sys.executable, "-c", HOLDER, str(self.data)]
        holder = subprocess.Popen(command, stdout=subprocess.PIPE)
        self.addCleanup(holder.stdout.close)
        holder.stdout.readline()
        self.work.start()
        self.until(lambda: self.told == [True])
        self.assertEqual(self.steps, 0)
        holder.kill()
        holder.wait()
        self.until(lambda: self.steps > 5)
