"""What the work of a job gets: its subject, and how to say how far it is."""

import time
from pathlib import Path

from django.utils import timezone

from kettle_core.errors import TakeError
from kettle_engine.taking import GivingWay
from kettle_web.jobs.services import Holding

TELL_EVERY_S = 0.4
WAITS = "waits for the take"


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
