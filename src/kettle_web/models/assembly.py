"""Versions of tutorials, and files that are made of them."""

from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import models
from django.urls import reverse

from kettle_core.assembly.cut_list import CutList
from kettle_media.assembly.cut_file import cuts_from_dict, cuts_to_dict
from kettle_web.models.documents import Deletable, Edited, Present, Undoable
from kettle_web.models.tutorials import Tutorial


def _nothing_cut() -> Any:
    return cuts_to_dict(CutList())


class Version(Edited, Deletable):
    """A tutorial's takes put in order and cut, one way of several. Its document is the cut list."""

    KIND = "version"
    ARRANGED = ("name", "deleted_at")
    FIRST = "whole"

    tutorial = models.ForeignKey(Tutorial, on_delete=models.CASCADE, related_name="versions")
    name = models.CharField(max_length=80, default=FIRST)
    document = models.JSONField(default=_nothing_cut)
    made_at = models.DateTimeField(auto_now_add=True)

    objects = Present["Version"]()
    with_deleted = models.Manager["Version"]()

    class Meta:
        ordering = ("pk",)
        constraints = (
            models.UniqueConstraint(
                fields=("tutorial", "name"),
                condition=models.Q(deleted_at=None),
                name="one_version_of_a_name",
            ),
        )

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        return reverse("assembly", args=[self.pk])

    def read(self, document: Any) -> CutList:
        return cuts_from_dict(document)

    def write(self, values: CutList) -> Any:
        return cuts_to_dict(values)


class Export(Undoable, Deletable):
    """A file that is made of a version, or was: what was asked for, who makes it, what came of it.

    `order` is a document of `kettle_media.assembly.export_document`.
    """

    KIND = "export"
    ARRANGED = ("deleted_at",)

    version = models.ForeignKey(Version, on_delete=models.CASCADE, related_name="exports")
    # Of the version's cut list as it was when this was asked for.
    document = models.JSONField(default=_nothing_cut)
    order = models.JSONField()
    file = models.CharField(max_length=200, unique=True)
    job = models.ForeignKey("Job", null=True, on_delete=models.SET_NULL, related_name="+")
    result = models.JSONField(default=dict)
    made_at = models.DateTimeField(auto_now_add=True)

    objects = Present["Export"]()
    with_deleted = models.Manager["Export"]()

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
