"""Where takes lie in the library, and what was done with them there."""

from django.db import models


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
