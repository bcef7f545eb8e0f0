"""Numbers of a tutorial's takes: each is given once, whatever becomes of the take."""

from collections.abc import Iterable

from django.db.models import Max

from kettle_web.models import Take, Tutorial


def next_number(tutorial: Tutorial) -> int:
    """The number of a tutorial's next take: none that a take of it has had."""
    if tutorial.pk is None:
        return 1
    found = Take.with_deleted.filter(tutorial=tutorial).aggregate(most=Max("number"))["most"]
    return max(found or 0, tutorial.most_gone) + 1


def keep_numbers(takes: Iterable[Take]) -> None:
    """No other take of a tutorial gets the number of one that leaves it."""
    for one in takes:
        tutorial = Tutorial.objects.filter(pk=one.tutorial_id, most_gone__lt=one.number)
        tutorial.update(most_gone=one.number)
