"""What was measured of folders that takes are recorded into."""

from django.db import models


class FolderSpeed(models.Model):
    """How fast the disk of an allowed folder took what was written; "" is the data folder's."""

    root = models.CharField(max_length=400, primary_key=True)
    bytes_per_s = models.FloatField()
    measured_at = models.DateTimeField()

    def __str__(self) -> str:
        return self.root
