"""Processes are ranked by the system: their niceness, and that of the session they lead."""

import json
import subprocess
import sys
import unittest
from pathlib import Path

from kettle_media.priority import WORKS, rank_process

RANKED = """
import json, os
from pathlib import Path
from kettle_media.priority import WORKS, rank
rank(WORKS)
group = Path("/proc/self/autogroup")
print(json.dumps({
    "leads": os.getsid(0) == os.getpid(),
    "nice": os.getpriority(os.PRIO_PROCESS, 0) - WORKS,
    "group": group.read_text().split()[-1] == str(WORKS) if group.exists() else True,
}), flush=True)
input()
"""


class Ranks(unittest.TestCase):
    def test_a_process_leads_a_session_of_its_rank_and_can_be_ranked_by_who_started_it(self):
        command = [sys.executable, "-c", RANKED]
        pipes = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE, "text": True}
        with subprocess.Popen(command, **pipes) as process:
            told = json.loads(process.stdout.readline())
            self.assertEqual(told, {"leads": True, "nice": 0, "group": True})
            rank_process(process.pid, WORKS + 3)
            stat = Path(f"/proc/{process.pid}/stat").read_text().rpartition(")")[2].split()
            self.assertEqual(int(stat[16]), WORKS + 3)
            process.communicate("\n")

    def test_a_session_that_another_process_leads_keeps_its_own_rank(self):
        group = Path("/proc/self/autogroup")
        if not group.exists():
            self.skipTest("This system has no automatic groups.")
        before = group.read_text()
        with subprocess.Popen([sys.executable, "-c", "input()"], stdin=subprocess.PIPE) as other:
            rank_process(other.pid, WORKS)
            other.communicate(b"\n")
        self.assertEqual(group.read_text(), before)

    def test_one_that_is_gone_is_let_be(self):
        with subprocess.Popen([sys.executable, "-c", ""]) as gone:
            gone.wait()
        rank_process(gone.pid, WORKS)
