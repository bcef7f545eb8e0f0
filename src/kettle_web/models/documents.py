"""Rows with a document that pages edit, and their history."""

from typing import Any, TypeVar

from django.db import models


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
