"""Takes."""

from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import models
from django.urls import reverse

from kettle_core.program.afterwards import Afterwards
from kettle_media.survey.paths import SurveyPaths
from kettle_media.take.afterwards import afterwards_from_dict, afterwards_to_dict
from kettle_media.take.folder import TakeFolder
from kettle_web.models.documents import Deletable, Edited, Present
from kettle_web.models.jobs import Job
from kettle_web.models.library import Folder
from kettle_web.models.rigs import Rig
from kettle_web.models.tutorials import Tutorial


def _untouched() -> Any:
    return afterwards_to_dict(Afterwards())


class Take(Edited, Deletable):
    """What pages need to know of a take folder; the folder itself is the truth.

    Its document is what was changed afterwards, kept in the folder too.
    """

    KIND = "take"
    ARRANGED = ("name", "tutorial_id", "kept_in_id", "tags", "deleted_at")

    class State(models.TextChoices):
        RECORDING = "recording", "being recorded"
        COMPLETE = "complete", "complete"
        INCOMPLETE = "incomplete", "not all of it is there"
        REPAIRED = "repaired", "cut off and repaired"
        FAILED = "failed", "failed"

    rig = models.ForeignKey(Rig, null=True, on_delete=models.SET_NULL, related_name="takes")
    tutorial = models.ForeignKey(Tutorial, on_delete=models.PROTECT, related_name="takes")
    folder = models.CharField(max_length=200, unique=True)
    # The allowed folder it lies in; "" for that of the data folder.
    root = models.CharField(max_length=400, blank=True, default="")
    name = models.CharField(max_length=200)
    # The take's own id, which cut lists name; "" until its folder was read.
    uuid = models.CharField(max_length=64, blank=True, default="", db_index=True)
    # Which one of its tutorial it is; no other one gets the same.
    number = models.PositiveIntegerField(default=0)
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
    def has_poster(self) -> bool:
        """Whether there is a picture of it, composed or as it was seen while it was recorded."""
        return self.has_program or SurveyPaths(TakeFolder(self.path), early=True).poster.is_file()

    @property
    def has_program_now(self) -> bool:
        """Whether its program is composed as it is now."""
        done = self.program_job is None or self.program_job.state == Job.State.DONE
        return self.has_program and done
