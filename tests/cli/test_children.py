"""Processes that are kept running: started again, rested when they end again and again."""

import contextlib
import io
import logging
import os
import signal
import sys
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

from kettle_cli import children
from kettle_cli.children import (
    REST_S,
    RESTARTS_A_MINUTE,
    Child,
    end,
    fork,
    pid_of,
    program,
    watch,
)
from kettle_cli.log_commands import logs
from kettle_core.errors import KettleError
from kettle_media.priority import WORKS


class Time:
    """A clock that goes on while somebody sleeps."""

    def __init__(self):
        self.now_s = 1000.0

    def sleep(self, seconds):
        self.now_s += seconds

    def monotonic(self):
        return self.now_s


class Dies:
    """A process that has ended whenever it is looked at."""

    def poll(self):
        return 1


class Watching(unittest.TestCase):
    def setUp(self):
        room = tempfile.TemporaryDirectory()
        self.addCleanup(room.cleanup)
        self.data = Path(room.name)
        (self.data / "logs").mkdir()
        for module in ("children", "log_commands"):
            self.enterContext(mock.patch(f"kettle_cli.{module}.DATA", self.data))
        self.said = io.StringIO()
        self.enterContext(contextlib.redirect_stdout(self.said))

    def watch(self, child, seconds):
        """Watch a child for some seconds of a clock of our own; gives when it was started."""
        clock, started, ended = Time(), [], []

        def start():
            started.append(clock.now_s)

        def sleep(by):
            clock.sleep(by)
            if clock.now_s > 1000 + seconds:
                ended.append(15)

        child.process = Dies()
        with mock.patch.object(children.time, "monotonic", clock.monotonic), \
                mock.patch.object(children.time, "sleep", sleep), \
                mock.patch.object(child, "start", start):  # fmt: skip
            watch([child], ended)
        return started

    def test_what_ends_is_started_at_once_and_rests_when_it_does_so_again_and_again(self):
        (self.data / "logs" / "worker-soon.out").write_text("Traceback …\nValueError: odd\n")
        started = self.watch(Child("worker soon", program("false"), 0), 55)
        quick = RESTARTS_A_MINUTE + 1
        self.assertLess(started[quick - 1] - started[0], 3)
        rests = [b - a for a, b in zip(started[quick - 1 :], started[quick:], strict=False)]
        self.assertTrue(rests)
        self.assertTrue(all(rest >= REST_S for rest in rests), rests)
        self.assertIn("worker-soon.out ends with: ValueError: odd", self.said.getvalue())

    def test_a_childs_output_and_log_have_its_name_and_are_kept_apart(self):
        tell = "import os; print(os.environ['KETTLE_LOG'])"
        child = Child("worker soon", program(sys.executable, "-c", tell), 0)
        child.start()
        child.process.wait(30)
        self.assertEqual((self.data / "logs" / "worker-soon.out").read_text(), "worker-soon\n")

    def test_a_fork_has_its_own_output_log_name_and_signals(self):
        def work(words):
            print(words, os.environ["KETTLE_LOG"], flush=True)
            logging.getLogger("kettle.worker").warning("at work")
            time.sleep(60)

        child = Child("worker long", fork(work, "odd words"), WORKS)
        before = signal.signal(signal.SIGTERM, lambda *_: None)
        self.addCleanup(signal.signal, signal.SIGTERM, before)
        child.start()
        log = self.data / "logs" / "worker-long.log"
        for _ in range(600):
            if log.exists() and "at work" in log.read_text():
                break
            time.sleep(0.05)
        self.assertEqual(pid_of("worker long", os.getpid()), child.process.pid)
        self.assertEqual(os.getsid(child.process.pid), child.process.pid)
        self.assertEqual(os.getpriority(os.PRIO_PROCESS, child.process.pid), WORKS)
        # Within its session a rank says nothing to who is in another one.
        group = Path(f"/proc/{child.process.pid}/autogroup")
        self.assertTrue(not group.exists() or group.read_text().endswith(f"nice {WORKS}\n"))
        self.assertFalse(child.is_over)
        # What we do with a signal is not what it does.
        end([child])
        self.assertEqual(child.process.poll(), -signal.SIGTERM)
        text = (self.data / "logs" / "worker-long.out").read_text()
        self.assertEqual(text, "odd words worker-long\n")
        with self.assertRaisesRegex(KettleError, "worker long does not run"):
            pid_of("worker long", os.getpid())

    def test_logs_of_several_processes_are_laid_in_the_order_of_time(self):
        logs_of = {
            "web": "2026-11-26T10:00:02.000Z ERROR a\nTraceback\n  x\n"
            "2026-11-26T10:00:05.000Z INFO b\n",
            "engine": "2026-11-26T10:00:01.000Z INFO c\n2026-11-26T10:00:03.000Z INFO d\n",
        }
        for name, text in logs_of.items():
            (self.data / "logs" / f"{name}.log").write_text(text)
        logs(mock.Mock(process="", lines=60))
        words = [line.split()[-1] for line in self.said.getvalue().splitlines()]
        self.assertEqual(words, ["c", "a", "Traceback", "x", "d", "b"])
        self.said.truncate(self.said.seek(0))
        logs(mock.Mock(process="engine", lines=1))
        self.assertEqual(self.said.getvalue().split()[-1], "d")
