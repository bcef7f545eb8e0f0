"""A job run: its row tells that it is alive and how it ended, whatever happens."""

import logging
import threading
from collections.abc import Callable
from contextlib import suppress
from typing import Any

from django.conf import settings
from django.db import DatabaseError, connection
from django.utils import timezone

from kettle_core.errors import KettleError
from kettle_web.jobs.doing import Doing
from kettle_web.jobs.kinds import work_of
from kettle_web.jobs.services import CancelledError, Holding, LostError
from kettle_web.models import Job, Worker

HEARTBEAT_S = 2.0
log = logging.getLogger("kettle.worker")


def run_job(job: Job, on_begin: Callable[[], Any] = lambda: None) -> None:
    """Do a job that was taken; whatever happens, its row says how it ended.

    `on_begin` is called once an end of the worker (SystemExit) would give the job back.
    """
    holding = Holding(job)
    over = threading.Event()
    beating = threading.Thread(target=_beat, args=(holding, over), daemon=True)
    beating.start()
    doing = Doing(holding, settings.DATA)
    try:
        on_begin()
        work_of(job.kind)(doing)
        holding.end(Job.State.DONE)
    except LostError:
        log.warning("Job %s was taken over by another worker.", job.pk)
    except CancelledError:
        with suppress(LostError):
            holding.end(Job.State.CANCELLED)
    except KettleError as error:
        _fail(holding, str(error))
    except OSError as error:
        log.exception("Job %s failed.", job.pk)
        _fail(holding, f"The disk or a file cannot be used: {error.strerror}.")
    except SystemExit:
        holding.give_back()
        raise
    except Exception as error:
        log.exception("Job %s failed.", job.pk)
        what = f"{type(error).__name__}: {error}"[:200]
        sentence = f"Something went wrong here that should not ({what}). The log says more."
        _fail(holding, sentence)
    finally:
        over.set()
        beating.join()
        doing.close()


def _fail(holding: Holding, sentence: str) -> None:
    with suppress(LostError):
        holding.fail(sentence)


def _beat(holding: Holding, over: threading.Event) -> None:
    """Say now and then that the worker is alive, whatever its work is busy with."""
    while not over.wait(HEARTBEAT_S):
        # The work itself is told the next time it says something.
        with suppress(DatabaseError, LostError, CancelledError):
            holding.write()
        say_alive(holding.job.queue)
    connection.close()


def say_alive(queue: str) -> None:
    """For `/health/`."""
    with suppress(DatabaseError):
        Worker.objects.update_or_create(queue=queue, defaults={"seen_at": timezone.now()})
