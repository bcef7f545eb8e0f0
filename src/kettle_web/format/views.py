"""The Format page: how it is written, what it costs, what it will look like."""

from typing import Any

from django.conf import settings
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from kettle_core.errors import EngineError, RigError
from kettle_core.rig.rig import Rig as RigValues
from kettle_core.rig.trial import in_words
from kettle_core.rig.whole import check_rig
from kettle_engine.protocol import IDLE, WATCHING
from kettle_engine.trial.kept import crop_path, read_trial, trial_folder
from kettle_web.format import selectors
from kettle_web.format.changes import Asked, change, with_track_of
from kettle_web.frame.asking import WrongFieldError, seen
from kettle_web.frame.editing import Made, edit
from kettle_web.frame.engine import engine
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
def order_trial(request: HttpRequest, slug: str) -> HttpResponse:
    """Have settings tried on what is on the inputs now."""
    rig = get_object_or_404(Rig, slug=slug)
    status = engine().ask("status")
    if status["state"] not in (IDLE, WATCHING):
        raise EngineError("A take is being recorded, so nothing was tried. Try it after it.")
    if not any(i.has_track and i.is_picture for i in rig.values.inputs):
        raise RigError("No picture of this rig has a track, so there is nothing to try.", "trial")
    subject = selectors.trial_subject(rig)
    order(kind="trial", queue=SOON, subject=subject, title=f"{rig.name}: trial", afresh=True)
    return redirect("format", slug)


@require_POST
def take_proposal(request: HttpRequest, slug: str) -> HttpResponse:
    """Set a track as a point of the trial was."""
    rig = get_object_or_404(Rig, slug=slug)
    row, number = request.POST.get("row", ""), request.POST.get("number", "")
    kept = read_trial(trial_folder(settings.DATA, rig.slug))
    found = kept.of(row) if kept else None
    points = found.points if found else ()
    if not number.isascii() or not number.isdigit() or int(number[:4]) >= len(points):
        raise RigError("This setting was not tried. Reload the page.", "number")
    track = points[int(number)].track

    def changed(values: RigValues) -> Made[RigValues]:
        name = values.input(row).name
        return with_track_of(values, row, track), f"{name}: {in_words(track.rate)}"

    edit(rig, changed, seen(request))
    return redirect("format", slug)


@require_safe
def trial_crop(request: HttpRequest, slug: str, input_id: str, number: int) -> HttpResponse:
    """The enlarged part of an input: 0 as it was, then after each point."""
    rig = get_object_or_404(Rig, slug=slug)
    kept = read_trial(trial_folder(settings.DATA, rig.slug))
    found = kept.of(input_id) if kept else None
    if found is None or number > len(found.points):
        raise Http404("There is no such part of a picture.")
    try:
        data = crop_path(trial_folder(settings.DATA, rig.slug), input_id, number - 1).read_bytes()
    except OSError as error:
        raise Http404("This part of the picture is gone.") from error
    return HttpResponse(data, content_type="image/png")


@require_POST
def speed(request: HttpRequest, slug: str) -> HttpResponse:
    """Have the speed of the chosen folder measured."""
    rig = get_object_or_404(Rig, slug=slug)
    root = rig.values.format.files.root
    if selectors.chosen_root(rig.values) is None:
        raise RigError("This folder is not allowed here. Choose another one.", "root")
    subject = selectors.speed_subject(root)
    order(kind="folder-speed", queue=SOON, subject=subject, title="Speed of the folder")
    return redirect("format", slug)
