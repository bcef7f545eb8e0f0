from pathlib import Path

from django.conf import settings
from django.db import models
from django.urls import reverse

from kettle_core.rig.rig import Rig as RigValues
from kettle_media.rig_document import rig_from_dict


class Rig(models.Model):
    """A rig with its whole set-up as one document (docs/decisions/0003)."""

    slug = models.SlugField(unique=True, max_length=60)
    name = models.CharField(max_length=80)
    document = models.JSONField()
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ("name",)

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        return reverse("patch-sheet", args=[self.slug])

    @property
    def values(self) -> RigValues:
        """The rig as `kettle_core` reads it."""
        return rig_from_dict(self.document)


class RigChange(models.Model):
    """One change of a rig, so that it can be undone and done again."""

    rig = models.ForeignKey(Rig, on_delete=models.CASCADE, related_name="changes")
    words = models.CharField(max_length=200)
    before = models.JSONField()
    after = models.JSONField()
    undone = models.BooleanField(default=False)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)

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


class Take(models.Model):
    """What pages need to know of a take folder; the folder itself is the truth."""

    class State(models.TextChoices):
        RECORDING = "recording", "being recorded"
        COMPLETE = "complete", "complete"
        REPAIRED = "repaired", "cut off and repaired"
        FAILED = "failed", "failed"

    class Program(models.TextChoices):
        NONE = "none", "not composed"
        WAITING = "waiting", "waiting to be composed"
        COMPOSING = "composing", "being composed"
        DONE = "done", "composed"
        FAILED = "failed", "could not be composed"

    rig = models.ForeignKey(Rig, null=True, on_delete=models.SET_NULL, related_name="takes")
    folder = models.CharField(max_length=200, unique=True)
    name = models.CharField(max_length=200)
    state = models.CharField(max_length=12, choices=State, default=State.RECORDING)
    recorded_at = models.DateTimeField()
    duration_s = models.FloatField(null=True)
    size_bytes = models.BigIntegerField(default=0)
    notes = models.JSONField(default=list)
    tracks = models.JSONField(default=list)
    program = models.CharField(max_length=12, choices=Program, default=Program.NONE)
    program_done = models.PositiveIntegerField(default=0)
    program_total = models.PositiveIntegerField(default=0)
    program_began_at = models.DateTimeField(null=True)
    program_message = models.CharField(max_length=400, blank=True)

    class Meta:
        ordering = ("-recorded_at",)
        constraints = (
            models.CheckConstraint(
                condition=models.Q(program_done__lte=models.F("program_total")),
                name="take_program_done_within_total",
            ),
        )

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        return reverse("take", args=[self.pk])

    @property
    def path(self) -> Path:
        """The take's folder on disk."""
        return Path(settings.TAKES) / self.folder
