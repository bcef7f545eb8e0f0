from pathlib import Path
from typing import Any, TypeVar

from django.conf import settings
from django.db import models
from django.db.models import Q
from django.urls import reverse
from django.utils import timezone

from kettle_core.assembly.cut_list import CutList
from kettle_core.program.afterwards import Afterwards
from kettle_core.program.running_order import RunningOrder
from kettle_core.rig.rig import Rig as RigValues
from kettle_core.rig.sound_changes import following_preset
from kettle_media.assembly.cut_file import cuts_from_dict, cuts_to_dict
from kettle_media.rig_document import rig_from_dict, rig_to_dict
from kettle_media.running_order import order_from_dict, order_to_dict
from kettle_media.take.afterwards import afterwards_from_dict, afterwards_to_dict


class Edited(models.Model):
    """A row with a document that pages edit: one change at a time, each a revision more.

    `kettle_web.frame.editing` alone changes it; its history is in `Change`.
    """

    KIND = ""

    document = models.JSONField()
    revision = models.PositiveIntegerField(default=1)
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        abstract = True

    def read(self, document: Any) -> Any:
        """The document's values."""
        raise NotImplementedError

    def write(self, values: Any) -> Any:
        """Changed values as a document."""
        raise NotImplementedError

    def take_over(self, document: Any) -> None:
        """Have another document; the row's own fields follow it."""
        self.document, self.revision = document, self.revision + 1

    @property
    def values(self) -> Any:
        """The document's values, read once for each document."""
        known = self.__dict__.get("_values")
        if known is None or known[0] is not self.document:
            known = self.__dict__["_values"] = (self.document, self.read(self.document))
        return known[1]


Row = TypeVar("Row", bound=models.Model)


class Present(models.Manager[Row]):
    """Rows that were not deleted."""

    def get_queryset(self) -> models.QuerySet[Row]:
        return super().get_queryset().filter(deleted_at=None)


class Deletable(models.Model):
    """A row that is only taken out of sight when it is deleted, and can be brought back."""

    deleted_at = models.DateTimeField(null=True)

    class Meta:
        abstract = True


class Tutorial(Edited):
    """What somebody makes: a name, a running order, the format of its program, and its takes.

    Its document is the running order.
    """

    KIND = "tutorial"
    UNTITLED = "Untitled"

    name = models.CharField(max_length=120, default=UNTITLED)
    # What it shows and for whom; it goes into the files that are made of it.
    description = models.TextField(blank=True)
    document = models.JSONField(default=list)
    # The format is the rig's until the tutorial has its own.
    format = models.JSONField(null=True)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        return reverse("tutorial", args=[self.pk])

    def read(self, document: Any) -> RunningOrder:
        return order_from_dict(document)

    def write(self, values: RunningOrder) -> Any:
        return order_to_dict(values)


class Rigs(Present["Rig"]):
    """Rigs that something can be recorded with: not those that takes have of their own."""

    def get_queryset(self) -> models.QuerySet["Rig"]:
        return super().get_queryset().filter(of_take=None)


class RigsAndTakes(Present["Rig"]):
    """All rigs, also those of takes that were not deleted."""

    def get_queryset(self) -> models.QuerySet["Rig"]:
        return super().get_queryset().filter(of_take__deleted_at=None)


def _nothing_cut() -> Any:
    return cuts_to_dict(CutList())


class Version(Edited):
    """A tutorial's takes put in order and cut, one way of several. Its document is the cut list."""

    KIND = "version"
    FIRST = "whole"

    tutorial = models.ForeignKey(Tutorial, on_delete=models.CASCADE, related_name="versions")
    name = models.CharField(max_length=80, default=FIRST)
    document = models.JSONField(default=_nothing_cut)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("pk",)
        constraints = (
            models.UniqueConstraint(fields=("tutorial", "name"), name="one_version_of_a_name"),
        )

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        return reverse("assembly", args=[self.pk])

    def read(self, document: Any) -> CutList:
        return cuts_from_dict(document)

    def write(self, values: CutList) -> Any:
        return cuts_to_dict(values)


class Export(models.Model):
    """A file that is made of a version, or was: what was asked for, who makes it, what came of it.

    `order` is a document of `kettle_media.assembly.export_document`.
    """

    version = models.ForeignKey(Version, on_delete=models.CASCADE, related_name="exports")
    # Of the version's cut list as it was when this was asked for.
    document = models.JSONField(default=_nothing_cut)
    order = models.JSONField()
    file = models.CharField(max_length=200, unique=True)
    job = models.ForeignKey("Job", null=True, on_delete=models.SET_NULL, related_name="+")
    result = models.JSONField(default=dict)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)

    def __str__(self) -> str:
        return self.file

    @property
    def path(self) -> Path:
        """The file on disk."""
        return Path(settings.DATA) / "exports" / self.file

    @property
    def picture_path(self) -> Path:
        """The small picture of where it is, while it is made."""
        return self.path.with_name(f".{self.file}.at.jpg")


class Key(models.Model):
    """A key that was changed: of an action of the pages."""

    action = models.CharField(max_length=40, primary_key=True)
    key = models.CharField(max_length=12)

    def __str__(self) -> str:
        return f"{self.action}: {self.key}"


class Rig(Edited, Deletable):
    """A rig with its whole set-up as one document (docs/decisions/0003).

    One with a take (`of_take`) is that take's own, as it is changed after it was recorded.
    """

    KIND = "rig"

    slug = models.SlugField(unique=True, max_length=60)
    name = models.CharField(max_length=80)
    # What is worked on with it now.
    tutorial = models.ForeignKey(Tutorial, null=True, on_delete=models.SET_NULL, related_name="+")

    of_take = models.OneToOneField(
        "Take", null=True, on_delete=models.CASCADE, related_name="own_rig"
    )

    objects = Rigs()
    with_takes = RigsAndTakes()
    with_deleted = models.Manager["Rig"]()

    class Meta:
        ordering = ("name",)

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        return reverse("scenes" if self.of_take_id else "patch-sheet", args=[self.slug])

    def read(self, document: Any) -> RigValues:
        return rig_from_dict(document)

    def write(self, values: RigValues) -> Any:
        return rig_to_dict(following_preset(self.values, values))

    def take_over(self, document: Any) -> None:
        super().take_over(document)
        self.name = self.values.name


class Change(models.Model):
    """A document as it was after a change; the first of a row is how it was before any.

    `owner` is the row's id, `kind` its `Edited.KIND`. `zipped` is the document's JSON by zlib.
    """

    kind = models.CharField(max_length=12)
    owner = models.PositiveBigIntegerField()
    revision = models.PositiveIntegerField()
    words = models.CharField(max_length=200)
    zipped = models.BinaryField()
    undone = models.BooleanField(default=False)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("pk",)
        indexes = (models.Index(fields=("kind", "owner"), name="changes_of_a_document"),)

    def __str__(self) -> str:
        return self.words


class Still(models.Model):
    """A picture in a rig's own library; its file is named by the SHA-256 of its bytes."""

    rig = models.ForeignKey(Rig, on_delete=models.CASCADE, related_name="stills")
    digest = models.CharField(max_length=64)
    name = models.CharField(max_length=80)
    width = models.PositiveIntegerField()
    height = models.PositiveIntegerField()
    added_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("name",)
        constraints = (
            models.UniqueConstraint(fields=("rig", "digest"), name="still_once_in_a_rig"),
        )

    def __str__(self) -> str:
        return self.name

    @property
    def path(self) -> Path:
        """The PNG on disk."""
        return Path(settings.DATA) / "pictures" / f"{self.digest}.png"


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
    subject = models.CharField(max_length=120)
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
    ended_at = models.DateTimeField(null=True)
    made_at = models.DateTimeField(auto_now_add=True)
    result = models.JSONField(default=dict)

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
    def can_go_first(self) -> bool:
        """Whether it waits, and another one of its queue would be taken before it."""
        if self.state != self.State.WAITING:
            return False
        before = Q(place__lt=self.place) | Q(place=self.place, pk__lt=self.pk)
        waiting = Job.objects.filter(queue=self.queue, state=self.State.WAITING)
        return waiting.filter(before).exists()

    @property
    def percent(self) -> int:
        """How much of it is done, 0 to 100."""
        return round(100 * self.done / self.total) if self.total else 0

    @property
    def left_s(self) -> float | None:
        """How long it still takes at the pace it had, None until that can be told."""
        if self.state != self.State.RUNNING or not self.done or not self.began_at:
            return None
        elapsed_s = (timezone.now() - self.began_at).total_seconds()
        return elapsed_s * (self.total - self.done) / self.done


class Worker(models.Model):
    """When a worker was heard of last; one row a queue."""

    queue = models.CharField(max_length=8, primary_key=True)
    seen_at = models.DateTimeField()

    def __str__(self) -> str:
        return self.queue


class Folder(models.Model):
    """A folder of the library: takes are laid into it, nothing moves on the disk."""

    name = models.CharField(max_length=80)
    parent = models.ForeignKey("self", null=True, on_delete=models.CASCADE, related_name="folders")

    class Meta:
        ordering = ("name",)
        constraints = (
            models.UniqueConstraint(fields=("parent", "name"), name="folder_name_once"),
            models.UniqueConstraint(
                fields=("name",), condition=models.Q(parent=None), name="top_folder_name_once"
            ),
        )

    def __str__(self) -> str:
        return self.name


class Rearranged(models.Model):
    """Something done with takes of the library, to be undone: their fields before and after."""

    words = models.CharField(max_length=200)
    before = models.JSONField()
    after = models.JSONField()
    undone = models.BooleanField(default=False)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("pk",)

    def __str__(self) -> str:
        return self.words


def _untouched() -> Any:
    return afterwards_to_dict(Afterwards())


class Take(Edited, Deletable):
    """What pages need to know of a take folder; the folder itself is the truth.

    Its document is what was changed afterwards, kept in the folder too.
    """

    KIND = "take"

    class State(models.TextChoices):
        RECORDING = "recording", "being recorded"
        COMPLETE = "complete", "complete"
        REPAIRED = "repaired", "cut off and repaired"
        FAILED = "failed", "failed"

    rig = models.ForeignKey(Rig, null=True, on_delete=models.SET_NULL, related_name="takes")
    tutorial = models.ForeignKey(Tutorial, on_delete=models.PROTECT, related_name="takes")
    folder = models.CharField(max_length=200, unique=True)
    # The allowed folder it lies in; "" for that of the data folder.
    root = models.CharField(max_length=400, blank=True, default="")
    name = models.CharField(max_length=200)
    state = models.CharField(max_length=12, choices=State, default=State.RECORDING)
    recorded_at = models.DateTimeField()
    duration_s = models.FloatField(null=True)
    size_bytes = models.BigIntegerField(default=0)
    notes = models.JSONField(default=list)
    tracks = models.JSONField(default=list)
    document = models.JSONField(default=_untouched)
    # Who composes it, or did, and what its program shows: a revision, None before there is one.
    program_job = models.ForeignKey(Job, null=True, on_delete=models.SET_NULL, related_name="+")
    composed_revision = models.PositiveIntegerField(null=True)
    # Who looks at its tracks, or did.
    survey_job = models.ForeignKey(Job, null=True, on_delete=models.SET_NULL, related_name="+")
    # Where it lies in the library, and what it is called there besides: "|draft|sewing|".
    kept_in = models.ForeignKey(Folder, null=True, on_delete=models.SET_NULL, related_name="takes")
    tags = models.CharField(max_length=400, blank=True, default="")
    # When its folder was looked into last.
    looked_at = models.DateTimeField(null=True)

    objects = Present["Take"]()
    with_deleted = models.Manager["Take"]()

    class Meta:
        ordering = ("-recorded_at", "-pk")

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        return reverse("take", args=[self.pk])

    def read(self, document: Any) -> Afterwards:
        return afterwards_from_dict(document)

    def write(self, values: Afterwards) -> Any:
        return afterwards_to_dict(values)

    @property
    def path(self) -> Path:
        """The take's folder on disk."""
        return Path(self.root or settings.TAKES) / self.folder

    @property
    def tag_list(self) -> list[str]:
        """Its tags, by their names."""
        return [tag for tag in self.tags.split("|") if tag]

    @property
    def has_program(self) -> bool:
        """Whether its program is composed, as it is now or as it was before a change."""
        return self.composed_revision is not None

    @property
    def has_program_now(self) -> bool:
        """Whether its program is composed as it is now."""
        done = self.program_job is None or self.program_job.state == Job.State.DONE
        return self.has_program and done
