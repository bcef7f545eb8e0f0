"""Django's runner with a limit a test: one that hangs fails where it stands, the others go on."""

import contextlib
import faulthandler
import os
import signal
import sys
import time
import unittest

from django.test.runner import DiscoverRunner

# What hangs does so for good; on a busy machine a whole lesson has taken three minutes.
LIMIT_S = int(os.environ.get("KETTLE_TEST_LIMIT_S", "600"))
SLOWEST = int(os.environ.get("KETTLE_TEST_SLOWEST", "8"))


class HangsError(Exception):
    """A test has taken longer than any may."""


def _give_up(*_):
    faulthandler.dump_traceback(sys.__stderr__)
    raise HangsError(f"It did not end within {LIMIT_S} s.")


class LimitedResult(unittest.TextTestResult):
    """Arms the limit for each test, and tells at the end which took longest."""

    def __init__(self, *args, **more):
        super().__init__(*args, **more)
        self._took_s = {}

    def startTest(self, test):
        super().startTest(test)
        self._began_s = time.monotonic()
        signal.signal(signal.SIGALRM, _give_up)
        signal.alarm(LIMIT_S)

    def stopTest(self, test):
        signal.alarm(0)
        self._took_s[test.id()] = time.monotonic() - self._began_s
        super().stopTest(test)

    def stopTestRun(self):
        super().stopTestRun()
        slowest = sorted(self._took_s.items(), key=lambda item: -item[1])[:SLOWEST]
        with contextlib.suppress(OSError):
            for name, seconds in slowest:
                self.stream.writeln(f"{seconds:6.1f} s  {name}")


class LimitedRunner(DiscoverRunner):
    """The runner of `./kettle test`."""

    def get_resultclass(self):
        """The result that limits."""
        return super().get_resultclass() or LimitedResult
