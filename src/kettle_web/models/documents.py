"""Rows with a document that pages edit, and their history."""

from typing import Any, ClassVar, TypeVar

from django.db import models


class Undoable(models.Model):
    """A row whose changes can be undone (`kettle_web.frame.history`), named by kind and id."""

    KIND = ""
    # Fields that are set from the library: what it is called, where it lies, whether it is there.
    ARRANGED: ClassVar[tuple[str, ...]] = ()

    class Meta:
        abstract = True

    @property
    def key(self) -> str:
        """What changes call it: "take:12"."""
        return f"{self.KIND}:{self.pk}"


class Edited(Undoable):
    """A row with a document that pages edit: one change at a time, each a revision more.

    `kettle_web.frame.editing` alone changes it.
    """

    # What a change of the document writes; the row's other fields are others' to write.
    WRITTEN: ClassVar[tuple[str, ...]] = ("document", "revision", "changed_at")

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
    """Something that was done, to be undone: rows as they were before and after it.

    `scope` is the row whose page it was done on ("rig:3"), or "library" for what is done with
    rows rather than in them: named, laid elsewhere, deleted.
    """

    scope = models.CharField(max_length=40, db_index=True)
    words = models.CharField(max_length=200)
    undone = models.BooleanField(default=False)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("pk",)

    def __str__(self) -> str:
        return self.words


class ChangedRow(models.Model):
    """A row that a change was made to: "take:12", the revision that it got, 0 for none.

    `zipped` is the JSON of its fields before and after, by zlib.
    """

    change = models.ForeignKey(Change, on_delete=models.CASCADE, related_name="rows")
    row = models.CharField(max_length=40, db_index=True)
    revision = models.PositiveIntegerField(default=0)
    zipped = models.BinaryField()

    class Meta:
        ordering = ("pk",)

    def __str__(self) -> str:
        return self.row
