"""The start page, with what was wrong with a new or an imported rig."""

from django.db.models import Count, Q
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from kettle_web.frame.engine import status_or_message
from kettle_web.library.selectors import shelf
from kettle_web.models import Rig, Tutorial
from kettle_web.rigs.forms import RigForm

MOST_TUTORIALS = 12


def start_page(
    request: HttpRequest, form: RigForm | None = None, import_error: str = ""
) -> HttpResponse:
    """The start page, with what was wrong with a new or an imported rig."""
    context = {
        "rigs": Rig.objects.all(),
        "tutorials": Tutorial.objects.annotate(
            count=Count("takes", filter=Q(takes__deleted_at=None))
        )[:MOST_TUTORIALS],
        "shelf": shelf(request.GET),
        "form": form or RigForm(),
        "deleted_rigs": Rig.with_deleted.exclude(deleted_at=None).order_by("-deleted_at")[:8],
        "import_error": import_error,
        "engine": status_or_message(),
    }
    status = 400 if form or import_error else 200
    return render(request, "rigs/start.html", context, status=status)
