"""A worker: takes jobs of one queue, one after the other; the one for *soon* keeps house.

python -m kettle_web.jobs.worker soon|long
"""

import logging
import os
import signal
import sys
import time
from typing import Any

import django

IDLE_S = 0.3
HOUSEKEEPING_EVERY_S = 2.0
ALIVE_EVERY_S = 5.0
END = {signal.SIGTERM}
HOUSEKEEPING = (
    "kettle_web.takes.reading.look_after_takes",
    "kettle_web.jobs.services.forget_old",
    "kettle_web.rigs.heard.forget_heard",
    "kettle_web.rigs.library.forget_pictures",
    "kettle_web.format.work.forget_frames",
)
log = logging.getLogger("kettle.worker")


def keep_house() -> None:
    """What is done beside jobs; a fault in it is logged and tried again."""
    from django.utils.module_loading import import_string

    for name in HOUSEKEEPING:
        try:
            import_string(name)()
        except Exception:
            log.exception("%s failed.", name)


def work(queue: str) -> None:
    """Do jobs of a queue until the parent ends this process; Django is set up."""
    from django.db import DatabaseError, close_old_connections

    from kettle_engine.process import work_frame_by_frame
    from kettle_web.jobs.running import run_job, say_alive
    from kettle_web.jobs.services import SOON, take_next

    work_frame_by_frame()
    signal.signal(signal.SIGTERM, _stop)
    kept_at = said_at = 0.0
    while True:
        close_old_connections()
        if time.monotonic() - said_at > ALIVE_EVERY_S:
            said_at = time.monotonic()
            say_alive(queue)
        if queue == SOON and time.monotonic() - kept_at > HOUSEKEEPING_EVERY_S:
            kept_at = time.monotonic()
            keep_house()
        # Who is ended with a job in hand gives it back; until that can be done the end waits.
        signal.pthread_sigmask(signal.SIG_BLOCK, END)
        try:
            job = take_next(queue)
        except DatabaseError:
            log.exception("The queue cannot be read.")
            job = None
        if job:
            run_job(job, lambda: signal.pthread_sigmask(signal.SIG_UNBLOCK, END))
        else:
            signal.pthread_sigmask(signal.SIG_UNBLOCK, END)
            time.sleep(IDLE_S)


def _stop(_number: int, _frame: Any) -> None:
    sys.exit(0)


if __name__ == "__main__":
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "kettle_web.settings")
    django.setup()
    work(sys.argv[1])
