"""Workers of tests: they do what waits, here and now."""

from unittest import mock

from kettle_web.jobs.services import LONG, SOON, take_next
from kettle_web.jobs.worker import run_job


def do_jobs():
    """Do everything that waits, as workers would."""
    # A test's transaction keeps every other thread from writing.
    with mock.patch("kettle_web.jobs.worker.HEARTBEAT_S", 600):
        for queue in (SOON, LONG):
            while job := take_next(queue):
                run_job(job)
