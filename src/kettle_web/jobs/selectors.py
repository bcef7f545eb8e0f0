"""Jobs as pages show them."""

from datetime import timedelta
from typing import Any

from django.db.models import Case, F, Q, When
from django.utils import timezone

from kettle_web.jobs.services import ACTIVE
from kettle_web.models import Job

TOLD_FOR = timedelta(minutes=10)
MOST_TOLD = 30


def told_jobs() -> list[Job]:
    """What is being done, what waits in the order of its turn, and what ended a moment ago."""
    since = timezone.now() - TOLD_FOR
    found = Job.objects.filter(Q(state__in=ACTIVE) | Q(ended_at__gt=since))
    states = ((Job.State.RUNNING, 0), (Job.State.WAITING, 1))
    group = Case(*(When(state=state, then=at) for state, at in states), default=2)
    return list(found.order_by(group, F("ended_at").desc(), "place", "pk")[:MOST_TOLD])


def in_their_turn() -> set[int]:
    """The jobs that their queues take next: no other one waits before them."""
    waiting = Job.objects.filter(state=Job.State.WAITING).order_by("-place", "-pk")
    return set(dict(waiting.values_list("queue", "pk")).values())


def count_active() -> int:
    """How many wait or are being done."""
    return Job.objects.filter(state__in=ACTIVE).count()


def newest(kind: str, subject: str) -> Job | None:
    """The job of a kind about something that was ordered last and not cancelled."""
    jobs = Job.objects.filter(kind=kind, subject=subject)
    return jobs.exclude(state=Job.State.CANCELLED).last()


def newest_open(kind: str, subject: str) -> Job | None:
    """The same while it is not done."""
    last = newest(kind, subject)
    return last if last and last.state != Job.State.DONE else None


def job_in_words(job: Job) -> str:
    """Its state, or what it waits for."""
    if job.state == Job.State.RUNNING and job.sentence:
        return job.sentence
    return str(job.get_state_display())


def job_data(job: Job) -> dict[str, Any]:
    """A job as a page's script is told of it."""
    return {
        "id": job.pk,
        "title": job.title,
        "state": job.state,
        "words": job_in_words(job),
        "sentence": job.sentence,
        "done": job.done,
        "total": job.total,
        "unit": job.unit,
        "percent": 100 if job.state == Job.State.DONE else job.percent,
        "left_s": job.left_s,
        "is_over": job.is_over,
    }
