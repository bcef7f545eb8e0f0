"""Jobs ordered, cancelled, tried again; and what workers do with the rows."""

from datetime import timedelta
from typing import Any

from django.db import transaction
from django.db.models import F, Min, Q, QuerySet
from django.utils import timezone

from kettle_web.models import Job, Take

SOON, LONG = "soon", "long"
# Who has not been heard of for that long is dead.
DEAD_AFTER = timedelta(seconds=8)
MOST_TRIES = 3
ENDED_KEPT_FOR = timedelta(days=7)
ACTIVE = (Job.State.WAITING, Job.State.RUNNING)
DIED = "It ended {tries} times while it worked on this, so it is left alone. Try again."


class LostError(Exception):
    """Somebody else holds the job by now."""


class CancelledError(Exception):
    """The user wants it no longer."""


@transaction.atomic
def order(*, kind: str, queue: str, subject: str, title: str, afresh: bool = False) -> Job:
    """Have something done; what waits already is not ordered twice.

    What is being done goes on, or is cancelled if it has to be done `afresh`.
    """
    same = Job.objects.filter(kind=kind, subject=subject, cancel_wanted=False)
    running = same.filter(state=Job.State.RUNNING)
    if afresh:
        running.update(cancel_wanted=True)
    found = same.filter(state=Job.State.WAITING).first() or (None if afresh else running.first())
    return found or Job.objects.create(kind=kind, queue=queue, subject=subject, title=title[:200])


@transaction.atomic
def cancel(*, job: Job) -> None:
    """Have it stopped; what waits is stopped at once."""
    now = timezone.now()
    rows = Job.objects.filter(pk=job.pk)
    rows.filter(state=Job.State.WAITING).update(state=Job.State.CANCELLED, ended_at=now)
    rows.filter(state=Job.State.RUNNING).update(cancel_wanted=True)


def try_again(*, job: Job) -> None:
    """Have a job that failed or was cancelled done after all."""
    Job.objects.filter(pk=job.pk, state__in=(Job.State.FAILED, Job.State.CANCELLED)).update(
        state=Job.State.WAITING,
        **_FRESH,
    )


@transaction.atomic
def do_next(*, job: Job) -> None:
    """Have a job that waits taken before all others that wait in its queue."""
    waiting = Job.objects.filter(queue=job.queue, state=Job.State.WAITING)
    least = waiting.exclude(pk=job.pk).aggregate(least=Min("place"))["least"]
    if least is not None:
        waiting.filter(pk=job.pk).update(place=least - 1)


_FRESH: dict[str, Any] = {
    "done": 0,
    "total": 0,
    "sentence": "",
    "cancel_wanted": False,
    "tries": 0,
    "place": 0,
    "ended_at": None,
}


def take_next(queue: str) -> Job | None:
    """The next job of a queue, taken; also one whose worker died."""
    # Most looks find nothing, and need no lock for that.
    while _next_of(queue).exists():
        with transaction.atomic():
            job = _next_of(queue).first()
            if job and _take(job):
                return job
    return None


def _next_of(queue: str) -> QuerySet[Job]:
    dead = Q(state=Job.State.RUNNING, heartbeat_at__lt=timezone.now() - DEAD_AFTER)
    found = Job.objects.filter(Q(state=Job.State.WAITING) | dead, queue=queue)
    return found.order_by("place", "pk")


def _take(job: Job) -> bool:
    """Take a job for the caller, or end one that nobody wants or that nobody survives."""
    now, mine = timezone.now(), Job.objects.filter(pk=job.pk)
    if job.cancel_wanted:
        mine.update(state=Job.State.CANCELLED, ended_at=now, token=F("token") + 1)
        return False
    if job.tries >= MOST_TRIES:
        sentence = DIED.format(tries=job.tries)
        mine.update(state=Job.State.FAILED, ended_at=now, sentence=sentence, token=F("token") + 1)
        return False
    mine.update(
        state=Job.State.RUNNING,
        token=F("token") + 1,
        tries=F("tries") + 1,
        began_at=now,
        paced_at=None,
        heartbeat_at=now,
        done=0,
        total=0,
        sentence="",
    )
    job.refresh_from_db()
    return True


class Holding:
    """A job as its worker sees it: every write is made only while it holds the newest token."""

    def __init__(self, job: Job) -> None:
        self.job = job
        self._mine = Job.objects.filter(pk=job.pk, token=job.token, state=Job.State.RUNNING)

    def write(self, **values: Any) -> None:
        """Change the row. Raises LostError, and CancelledError if the user wants it no longer."""
        if not self._mine.update(heartbeat_at=timezone.now(), **values):
            raise LostError
        if self._mine.filter(cancel_wanted=True).exists():
            raise CancelledError

    def end(self, state: str, sentence: str = "", **values: Any) -> None:
        """The last write. Raises LostError."""
        now = timezone.now()
        if not self._mine.update(state=state, sentence=sentence[:400], ended_at=now, **values):
            raise LostError

    def fail(self, sentence: str) -> None:
        """The last write of what failed; one that its user wants no longer is cancelled by that.

        Raises LostError.
        """
        with transaction.atomic():
            if self._mine.filter(cancel_wanted=True).exists():
                self.end(Job.State.CANCELLED)
            else:
                self.end(Job.State.FAILED, sentence)

    def give_back(self) -> None:
        """The worker ends before the job does: the next one begins it again, without a try."""
        self._mine.update(state=Job.State.WAITING, tries=F("tries") - 1)


def forget_old() -> None:
    """Let jobs go that ended long ago and that nothing refers to."""
    old = Job.objects.exclude(state__in=ACTIVE).filter(ended_at__lt=timezone.now() - ENDED_KEPT_FOR)
    for name in ("program_job", "survey_job"):
        # A take without one has it ordered.
        used = Take.with_deleted.exclude(**{name: None})
        old = old.exclude(pk__in=used.values(name))
    old.delete()
