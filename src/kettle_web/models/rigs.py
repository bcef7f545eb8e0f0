"""Rigs, their pictures, and keys that were changed."""

from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import models
from django.urls import reverse

from kettle_core.rig.rig import Rig as RigValues
from kettle_core.rig.sound_changes import following_preset
from kettle_media.rig_document import rig_from_dict, rig_to_dict
from kettle_web.models.documents import Deletable, Edited, Present
from kettle_web.models.tutorials import Tutorial


class Rigs(Present["Rig"]):
    """Rigs that something can be recorded with: not those that takes have of their own."""

    def get_queryset(self) -> models.QuerySet["Rig"]:
        return super().get_queryset().filter(of_take=None)


class RigsAndTakes(Present["Rig"]):
    """All rigs, also those of takes that were not deleted."""

    def get_queryset(self) -> models.QuerySet["Rig"]:
        return super().get_queryset().filter(of_take__deleted_at=None)


class Rig(Edited, Deletable):
    """A rig with its whole set-up as one document (docs/decisions/0003).

    One with a take (`of_take`) is that take's own, as it is changed after it was recorded.
    """

    KIND = "rig"
    WRITTEN = (*Edited.WRITTEN, "name")
    ARRANGED = ("deleted_at",)

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


class Key(models.Model):
    """A key that was changed: of an action of the pages."""

    action = models.CharField(max_length=40, primary_key=True)
    key = models.CharField(max_length=12)

    def __str__(self) -> str:
        return f"{self.action}: {self.key}"
