"""The Format page: how it is written, what it costs, what it will look like."""

from typing import Any

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from kettle_core.errors import RigError
from kettle_core.rig.rig import Rig as RigValues
from kettle_core.rig.whole import check_rig
from kettle_web.format import selectors
from kettle_web.format.changes import Asked, change
from kettle_web.frame.asking import WrongFieldError, seen
from kettle_web.frame.editing import Made, edit
from kettle_web.jobs.services import SOON, order
from kettle_web.models import Rig


@require_safe
def page(request: HttpRequest, slug: str) -> HttpResponse:
    """The page."""
    return _page(request, get_object_or_404(Rig, slug=slug))


def _page(
    request: HttpRequest,
    rig: Rig,
    wrong: dict[str, Any] | None = None,
    tried: RigValues | None = None,
) -> HttpResponse:
    context = selectors.format_page(rig, request.GET, wrong, tried)
    return render(request, "format/format.html", context, status=400 if wrong else 200)


@require_POST
def save(request: HttpRequest, slug: str) -> HttpResponse:
    """One form or button of the page."""
    rig = get_object_or_404(Rig, slug=slug)

    def changed(values: RigValues) -> Made[RigValues]:
        return _changed(values, request)

    try:
        edit(rig, changed, seen(request))
    except WrongFieldError as refused:
        return _page(request, rig, refused.wrong)
    return redirect("format", slug)


@require_POST
def try_out(request: HttpRequest, slug: str) -> HttpResponse:
    """The page as it would be with what is being typed; nothing is kept."""
    rig = get_object_or_404(Rig, slug=slug)
    try:
        tried, _ = _changed(rig.values, request)
    except WrongFieldError as refused:
        return _page(request, rig, refused.wrong)
    return _page(request, rig, tried=tried)


def _changed(values: RigValues, request: HttpRequest) -> Made[RigValues]:
    made, words = change(values, Asked(request.POST, settings.TAKES))
    check_rig(made)
    return made, words


@require_POST
def speed(request: HttpRequest, slug: str) -> HttpResponse:
    """Have the speed of the chosen folder measured."""
    rig = get_object_or_404(Rig, slug=slug)
    root = rig.values.format.files.root
    if root not in dict(selectors.root_rows(rig.values)):
        raise RigError("This folder is not allowed here. Choose another one.", "root")
    subject = selectors.speed_subject(root)
    order(kind="folder-speed", queue=SOON, subject=subject, title="Speed of the folder")
    return redirect("format", slug)
