"""Tutorials: what somebody makes."""

from typing import Any

from django.db import models
from django.urls import reverse

from kettle_core.program.running_order import RunningOrder
from kettle_media.running_order import order_from_dict, order_to_dict
from kettle_web.models.documents import Edited


class Tutorial(Edited):
    """What somebody makes: a name, a running order, the format of its program, and its takes.

    Its document is the running order.
    """

    KIND = "tutorial"
    # Its page changes all of these, and takes all of them back.
    WRITTEN = (*Edited.WRITTEN, "name", "description")
    UNTITLED = "Untitled"

    name = models.CharField(max_length=120, default=UNTITLED)
    # What it shows and for whom; it goes into the files that are made of it.
    description = models.TextField(blank=True)
    document = models.JSONField(default=list)
    # The format is the rig's until the tutorial has its own.
    format = models.JSONField(null=True)
    # The highest number of its takes that are gone, or belong to others by now.
    most_gone = models.PositiveIntegerField(default=0)
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
