"""A job done: what its work gets to say, and how the row tells that it ended, whatever happens."""

import logging
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import DatabaseError, connection
from django.utils import timezone

from kettle_core.errors import KettleError, TakeError
from kettle_engine.taking import GivingWay
from kettle_web.jobs.kinds import work_of
from kettle_web.jobs.services import CancelledError, Holding, LostError
from kettle_web.models import Job, Worker

HEARTBEAT_S = 2.0
TELL_EVERY_S = 0.4
WAITS = "waits for the take"
log = logging.getLogger("kettle.worker")


class Doing:
    """What a kind of job gets: its subject, and how to say how far it is.

    `tell`, `say` and `give_way` raise what ends the work when it is cancelled or was taken over.
    """

    def __init__(self, holding: Holding, data_dir: Path) -> None:
        self._holding, self._told_at, self._checked_at = holding, 0.0, 0.0
        self.subject: str = holding.job.subject
        self._giving_way = GivingWay(data_dir, self._wait, self._check)

    def tell(self, done: int, total: int, unit: str = "") -> None:
        """How much of how much is done; written down now and then."""
        now = time.monotonic()
        if now - self._told_at >= TELL_EVERY_S or done == total:
            first = {} if self._told_at else {"paced_at": timezone.now(), "paced_done": done}
            self._told_at = now
            self._holding.write(done=min(done, total), total=total, unit=unit, **first)

    def say(self, sentence: str) -> None:
        """What is being done just now, or waited for."""
        self._holding.write(sentence=sentence)

    def give_way(self) -> None:
        """Wait while a take is recorded; end if nobody wants this any more."""
        self._check()
        self._giving_way()

    def check(self) -> None:
        """End if nobody wants this any more, or a take has begun that needs the machine."""
        self._check()
        if self._giving_way.is_taken():
            raise TakeError("A take was begun, so this was left. Try it again after it.")

    def _wait(self, waiting: bool) -> None:
        self.say(WAITS if waiting else "")

    def _check(self) -> None:
        now = time.monotonic()
        if now - self._checked_at >= TELL_EVERY_S:
            self._checked_at = now
            self._holding.write()

    def close(self) -> None:
        """Let files go."""
        self._giving_way.close()


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
