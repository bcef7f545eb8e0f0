"""The start page, with what was wrong with a new or an imported rig."""

from typing import Any

from django.core.paginator import Page, Paginator
from django.db.models import Count, Q, QuerySet
from django.http import HttpRequest, HttpResponse, QueryDict
from django.shortcuts import render

from kettle_web.frame.engine import status_or_message
from kettle_web.library.selectors import shelf
from kettle_web.models import Rig, Tutorial
from kettle_web.rigs.forms import RigForm

A_PAGE = 12
MOST_WORDS = 80


def _some(rows: QuerySet[Any], asked: QueryDict, name: str) -> Page[Any]:
    """A page of rows that are called as is asked for: "rigs" the words, "rigs-page" which page."""
    for word in asked.get(name, "")[:MOST_WORDS].split():
        rows = rows.filter(name__icontains=word)
    return Paginator(rows, A_PAGE).get_page(asked.get(f"{name}-page"))


def start_page(
    request: HttpRequest, form: RigForm | None = None, import_error: str = ""
) -> HttpResponse:
    """The start page, with what was wrong with a new or an imported rig."""
    counted = Tutorial.objects.annotate(count=Count("takes", filter=Q(takes__deleted_at=None)))
    context = {
        "rigs": _some(Rig.objects.all(), request.GET, "rigs"),
        "rigs_q": request.GET.get("rigs", ""),
        "tutorials": _some(counted.order_by("-pk"), request.GET, "tutorials"),
        "tutorials_q": request.GET.get("tutorials", ""),
        "shelf": shelf(request.GET),
        "form": form or RigForm(),
        "import_error": import_error,
        "engine": status_or_message(),
    }
    status = 400 if form or import_error else 200
    return render(request, "rigs/start.html", context, status=status)
