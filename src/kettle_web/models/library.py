"""Where takes lie in the library."""

from django.db import models

from kettle_web.models.documents import Deletable, Present, Undoable


class Folder(Undoable, Deletable):
    """A folder of the library: takes are laid into it, nothing moves on the disk."""

    KIND = "folder"
    ARRANGED = ("name", "deleted_at")

    name = models.CharField(max_length=80)
    parent = models.ForeignKey("self", null=True, on_delete=models.CASCADE, related_name="folders")

    objects = Present["Folder"]()
    with_deleted = models.Manager["Folder"]()

    class Meta:
        ordering = ("name",)
        constraints = (
            models.UniqueConstraint(
                fields=("parent", "name"),
                condition=models.Q(deleted_at=None),
                name="folder_name_once",
            ),
            models.UniqueConstraint(
                fields=("name",),
                condition=models.Q(parent=None, deleted_at=None),
                name="top_folder_name_once",
            ),
        )

    def __str__(self) -> str:
        return self.name
