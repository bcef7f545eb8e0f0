"""Pages of takes and their files."""

from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from kettle_core.errors import TakeError
from kettle_media.take.folder import TakeFolder
from kettle_web.frame.asking import WrongFieldError, seen
from kettle_web.frame.editing import GoneError
from kettle_web.frame.history import history
from kettle_web.frame.undoing import meant, tell_undone, wants_again
from kettle_web.library.selectors import page_of_takes
from kettle_web.library.services import delete_takes
from kettle_web.models import Rig, Take
from kettle_web.rigs.start import start_page
from kettle_web.takes import orders, selectors, services
from kettle_web.takes.files import DOWNLOADS, serve_file, take_files
from kettle_web.takes.forms import FineForm, LayersForm, StripForm
from kettle_web.takes.now import take_now
from kettle_web.takes.overview import layers_at, overview
from kettle_web.takes.own_rig import as_recorded, own_rig


@require_safe
def start(request: HttpRequest) -> HttpResponse:
    """Rigs and takes."""
    return start_page(request)


@require_safe
def takes(request: HttpRequest, slug: str) -> HttpResponse:
    """The rig's takes."""
    rig = get_object_or_404(Rig, slug=slug)
    found = page_of_takes(rig.takes.filter(deleted_at=None), request.GET)
    return render(request, "takes/takes.html", {"rig": rig, "page": "takes", "takes": found})


@require_safe
def take(request: HttpRequest, pk: int) -> HttpResponse:
    """One take: seen, heard, measured, changed."""
    return _page(request, _take(pk))


def _take(pk: int) -> Take:
    related = ("rig", "tutorial", "program_job", "survey_job")
    return get_object_or_404(Take.objects.select_related(*related), pk=pk)


def _changed(pk: int) -> Take:
    """The take that an open page changes; it may have been deleted meanwhile."""
    if Take.with_deleted.exclude(deleted_at=None).filter(pk=pk).exists():
        raise GoneError
    return _take(pk)


def _page(request: HttpRequest, found: Take, wrong: dict[str, Any] | None = None) -> HttpResponse:
    context = {
        "rig": found.rig,
        "page": "takes",
        "take": found,
        "files": take_files(found),
        "shown": selectors.shown(found, wrong or {}),
        "job": found.program_job,
        "words": selectors.program_words(found),
        "repair": selectors.newest_repair(found),
        "history": history(found),
        "undo_at": reverse("undo-take", args=[found.pk]),
    }
    return render(request, "takes/take.html", context, status=400 if wrong else 200)


@require_safe
def take_overview(request: HttpRequest, pk: int) -> HttpResponse:
    """What lines, lanes and player are drawn from."""
    return JsonResponse(overview(_take(pk)))


@require_safe
def layers(request: HttpRequest, pk: int) -> HttpResponse:
    """The layers that are seen at a place of the take, to be taken hold of."""
    form = LayersForm(request.GET)
    if not form.is_valid():
        raise TakeError("There are no layers at this place. Reload the page.")
    return JsonResponse(layers_at(take_now(_take(pk)), form.cleaned_data["at_s"]))


@require_safe
def fine(request: HttpRequest, pk: int, name: str) -> HttpResponse:
    """A part of a sound's waveform finer than the survey has it."""
    form = FineForm(request.GET)
    if not form.is_valid():
        raise TakeError("This part of a waveform can't be given. Reload the page.")
    data = selectors.fine(_take(pk), name, **form.cleaned_data)
    return HttpResponse(data, content_type="application/octet-stream")


@require_safe
def strip(request: HttpRequest, pk: int, name: str) -> HttpResponse:
    """Small pictures of a track nearer than the survey has them."""
    form = StripForm(request.GET)
    if not form.is_valid():
        raise TakeError("These pictures can't be given. Reload the page.")
    data = selectors.strip(_take(pk), name, **form.cleaned_data)
    return HttpResponse(data, content_type="image/jpeg", headers={"Cache-Control": "max-age=3600"})


@require_safe
def card(request: HttpRequest, pk: int) -> HttpResponse:
    """A few small pictures beside each other, which move on the take's card."""
    data = selectors.card(_take(pk))
    return HttpResponse(data, content_type="image/jpeg", headers={"Cache-Control": "max-age=60"})


@require_POST
def change(request: HttpRequest, pk: int) -> HttpResponse:
    """One form or button of the page: the take is changed afterwards."""
    found = _changed(pk)
    try:
        services.change_take(take=found, post=request.POST, seen=seen(request))
    except WrongFieldError as refused:
        return _page(request, found, refused.wrong)
    return redirect(found)


@require_POST
def undo(request: HttpRequest, pk: int) -> HttpResponse:
    """Take the newest change of the take back, or do it again."""
    found = _changed(pk)
    words = services.undo_change(
        take=found, seen=seen(request), again=wants_again(request), of=meant(request)
    )
    tell_undone(request, words)
    return redirect(found)


@require_POST
def change_rig(request: HttpRequest, pk: int) -> HttpResponse:
    """To the scenes and the sound of a take, which has a rig of its own from then on."""
    rig = own_rig(take=_changed(pk))
    page = "sound" if "sound" in request.POST else "scenes"
    return redirect(page, rig.slug)


@require_POST
def rig_as_recorded(request: HttpRequest, pk: int) -> HttpResponse:
    """A take's scenes and sound as they were recorded."""
    rig = own_rig(take=_changed(pk))
    as_recorded(rig=rig, seen=None)
    messages.info(request, "Scenes and sound are as they were recorded. Undo brings them back.")
    return redirect(rig)


@require_POST
def take_compose(request: HttpRequest, pk: int) -> HttpResponse:
    """Make what could not be made: the program, the survey."""
    found = _take(pk)
    orders.make_again(take=found)
    return redirect(found)


@require_POST
def repair(request: HttpRequest, pk: int) -> HttpResponse:
    """Mend what is damaged of its files."""
    found = _changed(pk)
    orders.order_repair(take=found)
    return redirect(found)


@require_POST
def delete(request: HttpRequest, pk: int) -> HttpResponse:
    """Lay a take into the bin."""
    found = get_object_or_404(Take, pk=pk)
    delete_takes(takes=[found])
    messages.info(request, f"“{found.name}” lies in the bin until that is emptied.")
    return redirect("takes", found.rig.slug) if found.rig else redirect("start")


@require_safe
def take_file(request: HttpRequest, pk: int, kind: str, name: str) -> HttpResponse:
    """One of the take's own files, by name; never a path from outside."""
    found = get_object_or_404(Take, pk=pk)
    return serve_file(request, TakeFolder(found.path), found, kind, name, kind in DOWNLOADS)
