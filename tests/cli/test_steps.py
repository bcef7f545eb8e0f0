"""The steps of ./kettle test: one that fails, dies or hangs is told and holds up nobody."""

import contextlib
import io
import os
import signal
import sys
import tempfile
import threading
import time
import unittest
from unittest import mock

from kettle_cli.steps import Step, run_lanes
from tests import runner

HANGS = """
import subprocess, sys, time
def where_it_hangs():
    subprocess.Popen([sys.executable, "-c", "import time; time.sleep(600)"]).wait()
where_it_hangs()
"""


def python(name, code):
    return Step(name, [sys.executable, "-c", code])


class Limits(unittest.TestCase):
    def test_a_test_that_hangs_fails_where_it_stands_and_the_others_go_on(self):
        class OneHangs(unittest.TestCase):
            def test_hangs(self):
                threading.Event().wait()

            def test_well(self):
                pass

        told = io.StringIO()
        suite = unittest.defaultTestLoader.loadTestsFromTestCase(OneHangs)
        with mock.patch.object(runner, "LIMIT_S", 1), mock.patch("faulthandler.dump_traceback"):
            done = unittest.TextTestRunner(told, resultclass=runner.LimitedResult).run(suite)
        self.assertEqual((done.testsRun, len(done.errors)), (2, 1))
        self.assertIn("did not end within 1 s", told.getvalue())


class Steps(unittest.TestCase):
    def run_lanes(self, *lanes, limit_s=60.0):
        with tempfile.TemporaryFile() as told:
            shown = io.TextIOWrapper(told, "utf-8", write_through=True)
            with contextlib.redirect_stdout(shown), contextlib.redirect_stderr(shown):
                failed = run_lanes(lanes, dict(os.environ), limit_s)
            told.seek(0)
            text = told.read().decode()
            shown.detach()
        return failed, text

    def test_a_failure_hides_neither_what_is_beside_it_nor_what_comes_after(self):
        failed, told = self.run_lanes(
            [
                python("dies", "import os; os.kill(os.getpid(), 9)"),
                python("well", "print('heard'); print('All took 77 s CPU')"),
            ],
            [python("later", "pass")],
        )
        self.assertEqual(failed, 1)
        for words in (
            "heard",
            "FAILED dies",
            "ok     well",
            # What nobody waited for counts too.
            " s, 77 s CPU)",
            "ok     later",
            "% of the processors",
            "2 passed, 1 failed",
        ):
            self.assertIn(words, told)

    def test_a_lane_with_nothing_left_takes_over_what_gives_way_and_nothing_else(self):
        with tempfile.TemporaryDirectory() as room:
            wait = f"""
import pathlib, time
while not pathlib.Path("{room}/gives way").exists(): time.sleep(0.01)
"""
            note = f"""
import pathlib
pathlib.Path("{room}", "{{}}").touch()
"""
            taken = python("gives way", note.format("gives way"))
            taken.gives_way = True
            alone = f"""{wait}
time.sleep(0.3)
raise SystemExit(pathlib.Path("{room}/timely").exists())
"""
            failed, told = self.run_lanes(
                [python("long", wait), taken],
                [python("alone", alone), python("timely", note.format("timely"))],
                [python("short", "")],
                limit_s=20.0,
            )
        self.assertEqual(failed, 0, told)

    def test_why_one_failed_stands_at_the_end_where_a_reader_looks_first(self):
        _, told = self.run_lanes(
            [python("bad", "print('line\\n' * 200 + 'the reason'); raise SystemExit(1)")],
            [python("long", "print('much else\\n' * 200)")],
        )
        self.assertIn("the reason", told.splitlines()[-6:])
        self.assertNotIn("much else", told.splitlines()[-6:])

    def test_one_that_gives_way_does_so_to_other_sessions_too(self):
        asks = """
import os, pathlib, time
while os.getpriority(os.PRIO_PROCESS, 0) == 0: time.sleep(0.01)
time.sleep(0.1)
group = pathlib.Path("/proc/self/autogroup")
print("gives", group.read_text() if group.exists() else "nice 15")
"""
        step = python("gives way", asks)
        step.gives_way = True
        failed, told = self.run_lanes([step], limit_s=20.0)
        self.assertEqual(failed, 0)
        self.assertRegex(told, r"gives .*nice 15")

    def test_who_is_ended_ends_what_it_runs(self):
        step = python("long", "import time; print('begun', flush=True); time.sleep(600)")

        def end_it_all():
            while b"begun\n" not in step.printed:
                time.sleep(0.05)
            os.kill(os.getpid(), signal.SIGTERM)

        threading.Thread(target=end_it_all, daemon=True).start()
        with self.assertRaises(KeyboardInterrupt):
            self.run_lanes([step])
        self.assertEqual(step._process.poll(), -signal.SIGTERM)

    def test_one_that_hangs_is_ended_with_its_processes_and_says_where_it_stood(self):
        failed, told = self.run_lanes([python("hangs", HANGS), python("b", "")], limit_s=3.0)
        self.assertEqual(failed, 1)
        self.assertIn("“hangs” did not end within 3 s.", told)
        self.assertIn("in where_it_hangs", told)
