"""The steps of ./kettle test: one that fails, dies or hangs is told and holds up nobody."""

import contextlib
import io
import os
import sys
import tempfile
import unittest

from kettle_cli.steps import Step, run_steps

HANGS = """
import subprocess, sys, time
def where_it_hangs():
    subprocess.Popen([sys.executable, "-c", "import time; time.sleep(600)"]).wait()
where_it_hangs()
"""


def python(name, code):
    return Step(name, [sys.executable, "-c", code])


class Steps(unittest.TestCase):
    def run_steps(self, *groups, limit_s=60.0):
        with tempfile.TemporaryFile() as told:
            shown = io.TextIOWrapper(told, "utf-8", write_through=True)
            with contextlib.redirect_stdout(shown), contextlib.redirect_stderr(shown):
                failed = run_steps(groups, dict(os.environ), limit_s)
            told.seek(0)
            text = told.read().decode()
            shown.detach()
        return failed, text

    def test_a_failure_hides_neither_what_is_beside_it_nor_what_comes_after(self):
        failed, told = self.run_steps(
            [
                python("dies", "import os; os.kill(os.getpid(), 9)"),
                python("well", "print('heard')"),
            ],
            [python("later", "pass")],
        )
        self.assertEqual(failed, 1)
        for words in ("heard", "FAILED dies", "ok     well", "ok     later", "2 passed, 1 failed"):
            self.assertIn(words, told)

    def test_one_that_hangs_is_ended_with_its_processes_and_says_where_it_stood(self):
        failed, told = self.run_steps([python("hangs", HANGS), python("b", "")], limit_s=3.0)
        self.assertEqual(failed, 1)
        self.assertIn("“hangs” did not end within 3 s.", told)
        self.assertIn("in where_it_hangs", told)
