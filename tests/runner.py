"""Django's runner with a limit a test: one that hangs fails where it stands, the others go on."""

import contextlib
import ctypes
import faulthandler
import os
import signal
import sys
import time
import unittest
from pathlib import Path

from django.test.runner import DiscoverRunner
from hypothesis import HealthCheck, settings

# What hangs does so for good; on a busy machine a whole lesson has taken three minutes.
LIMIT_S = int(os.environ.get("KETTLE_TEST_LIMIT_S", "600"))
SLOWEST = int(os.environ.get("KETTLE_TEST_SLOWEST", "10"))


# prctl(2): who loses its parent becomes ours, so that what it took is known.
PR_SET_CHILD_SUBREAPER = 36
TICK_S = 1 / os.sysconf("SC_CLK_TCK")


# Machines are noisy: speed is measured by the bench. Who clones the project sees the same examples
# as all others; who looks for more sets KETTLE_TEST_EXPLORE.
settings.register_profile(
    "noisy",
    deadline=None,
    suppress_health_check=[HealthCheck.too_slow],
    derandomize=not os.environ.get("KETTLE_TEST_EXPLORE"),
)
settings.load_profile("noisy")


class HangsError(Exception):
    """A test has taken longer than any may."""


def _give_up(*_):
    faulthandler.dump_traceback(sys.__stderr__)
    raise HangsError(f"It did not end within {LIMIT_S} s.")


def cpu_s():
    """What this process and all that it started have taken of processors so far."""
    took, ours = sum(os.times()[:4]), {os.getpid()}
    rows = [row for path in Path("/proc").glob("[0-9]*/stat") if (row := _stat(path))]
    # Parents have lower numbers than their children, but where numbers begin anew.
    for pid, parent, ticks in sorted(rows):
        if parent in ours:
            ours.add(pid)
            took += ticks * TICK_S
    return took


def _stat(path):
    """A process's number, its parent's, and ticks of its own and of children that it waited for."""
    try:
        fields = path.read_text().rpartition(")")[2].split()
    except OSError:
        return None
    return int(path.parent.name), int(fields[1]), sum(map(int, fields[11:15]))


class LimitedResult(unittest.TextTestResult):
    """Arms the limit for each test, and tells at the end which took longest."""

    def __init__(self, *args, **more):
        super().__init__(*args, **more)
        ctypes.CDLL(None).prctl(PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0)
        self._took_s, self._cpu_s, self._cpu_until_s = {}, {}, cpu_s()

    def startTest(self, test):
        super().startTest(test)
        self._began_s = time.monotonic()
        signal.signal(signal.SIGALRM, _give_up)
        signal.alarm(LIMIT_S)

    def stopTest(self, test):
        signal.alarm(0)
        self._took_s[test.id()] = time.monotonic() - self._began_s
        before, self._cpu_until_s = self._cpu_until_s, cpu_s()
        self._cpu_s[test.id()] = self._cpu_until_s - before
        super().stopTest(test)

    def addFailure(self, test, error):
        super().addFailure(test, error)
        self._tell_what_was_seen(test)

    def addError(self, test, error):
        super().addError(test, error)
        self._tell_what_was_seen(test)

    def _tell_what_was_seen(self, test):
        """What a failed test can say of what it saw, which is gone when it has ended."""
        if hasattr(test, "what_was_seen"):
            with contextlib.suppress(Exception):
                self.stream.writeln(f"When {test.id()} failed there was:\n{test.what_was_seen()}")

    def stopTestRun(self):
        super().stopTestRun()
        slowest = sorted(self._took_s.items(), key=lambda item: -item[1])[:SLOWEST]
        with contextlib.suppress(OSError):
            for name, seconds in slowest:
                took = f"{seconds:6.1f} s {self._cpu_s[name]:6.1f} s CPU"
                self.stream.writeln(f"{took}  {name}")
            # What was not tried is not shown.
            for test, reason in self.skipped:
                self.stream.writeln(f"skipped {test.id()}: {reason}")
            self.stream.writeln(f"All took {self._cpu_until_s:.0f} s CPU")


class LimitedRunner(DiscoverRunner):
    """The runner of `./kettle test`."""

    def get_resultclass(self):
        """The result that limits."""
        return super().get_resultclass() or LimitedResult
