"""Workers of tests: they do what waits, here and now."""

from unittest import mock

from kettle_web.jobs.running import run_job
from kettle_web.jobs.services import LONG, SOON, take_next


def do_jobs():
    """Do everything that waits, as workers would."""
    # A test's transaction keeps every other thread from writing.
    with mock.patch("kettle_web.jobs.running.HEARTBEAT_S", 600):
        while job := take_next(SOON) or take_next(LONG):
            run_job(job)
