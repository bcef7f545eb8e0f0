"""Work that takes long, and who does it."""

from django.db import models
from django.utils import timezone


class Job(models.Model):
    """Work that takes long. The row is the truth: workers look for it, pages tell of it.

    `token` rises with each taking. Only who holds the newest writes here, and only while its
    `heartbeat_at` is young is it taken to be alive (`kettle_web.jobs`).
    """

    class State(models.TextChoices):
        WAITING = "waiting", "waits"
        RUNNING = "running", "being made"
        DONE = "done", "done"
        FAILED = "failed", "could not be done"
        CANCELLED = "cancelled", "cancelled"

    kind = models.CharField(max_length=20)
    queue = models.CharField(max_length=8)
    # What it is about, for who ordered it: "take:12".
    subject = models.CharField(max_length=420)
    title = models.CharField(max_length=200)
    state = models.CharField(max_length=10, choices=State, default=State.WAITING)
    done = models.PositiveIntegerField(default=0)
    total = models.PositiveIntegerField(default=0)
    unit = models.CharField(max_length=20, blank=True)
    sentence = models.CharField(max_length=400, blank=True)
    cancel_wanted = models.BooleanField(default=False)
    # Waiting jobs are taken in the order of this, then of age; the least first.
    place = models.IntegerField(default=0)
    token = models.PositiveIntegerField(default=0)
    tries = models.PositiveIntegerField(default=0)
    heartbeat_at = models.DateTimeField(null=True)
    began_at = models.DateTimeField(null=True)
    # When it was first told how much is done, and how much that was.
    paced_at = models.DateTimeField(null=True)
    paced_done = models.PositiveIntegerField(default=0)
    ended_at = models.DateTimeField(null=True)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("pk",)
        indexes = (models.Index(fields=("queue", "state"), name="jobs_of_a_queue"),)

    def __str__(self) -> str:
        return self.title

    @property
    def is_over(self) -> bool:
        """Whether nothing will be done any more."""
        return self.state not in (self.State.WAITING, self.State.RUNNING)

    @property
    def percent(self) -> int:
        """How much of it is done, 0 to 100."""
        return round(100 * self.done / self.total) if self.total else 0

    @property
    def left_s(self) -> float | None:
        """How long it still takes at the pace it had, None until that can be told.

        What had to be opened and loaded first is none of its pace.
        """
        done = self.done - self.paced_done
        if self.state != self.State.RUNNING or done <= 0 or not self.paced_at:
            return None
        elapsed_s = (timezone.now() - self.paced_at).total_seconds()
        return elapsed_s * (self.total - self.done) / done


class Worker(models.Model):
    """When a worker was heard of last; one row a queue."""

    queue = models.CharField(max_length=8, primary_key=True)
    seen_at = models.DateTimeField()

    def __str__(self) -> str:
        return self.queue
