"""The export page: files made of a version, what each costs, what was made."""

from typing import Any

from django.contrib import messages
from django.db.models import QuerySet
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from kettle_core.assembly.export import Export as Order
from kettle_core.errors import CutError
from kettle_core.timing.ticks import NS_PER_S
from kettle_web.assembly.material import Material
from kettle_web.assembly.overview import gone_pieces
from kettle_web.assembly.services import as_now, version_of
from kettle_web.export.forms import ExportForm, StretchForm, purpose_order
from kettle_web.export.selectors import exports, purposes
from kettle_web.export.services import delete_export, order_export
from kettle_web.frame.file_answers import file_answer
from kettle_web.frame.history import changes_of, history, take_back
from kettle_web.frame.undoing import meant, tell_undone, wants_again
from kettle_web.jobs.services import try_again
from kettle_web.models import Export, Tutorial, Version
from kettle_web.rigs.tutorials import rig_of


@require_safe
def of_tutorial(request: HttpRequest, pk: int) -> HttpResponse:
    """To the exports of the tutorial's version that was made first."""
    tutorial = get_object_or_404(Tutorial, pk=pk)
    return redirect("export", version_of(tutorial, Material(tutorial)).pk)


@require_safe
def export(request: HttpRequest, pk: int) -> HttpResponse:
    """The page of a version's exports."""
    return _page(request, _version(pk))


def _version(pk: int) -> Version:
    return get_object_or_404(Version.objects.select_related("tutorial"), pk=pk)


def _page(request: HttpRequest, version: Version, form: ExportForm | None = None) -> HttpResponse:
    material = Material(version.tutorial)
    as_now(version, material)
    whole_s = float(version.values.length_ns) / NS_PER_S
    asked = StretchForm(request.POST or request.GET)
    first_ms, until_ms = asked.stretch_ms
    length_s = Order(from_ms=first_ms, until_ms=until_ms).length_s(whole_s)
    found = exports(version)
    shown = next((one for one in found if one["there"]), None)
    wanted = request.GET.get("show", "")
    for one in found:
        if wanted == str(one["row"].pk) and one["there"]:
            shown = one
    context: dict[str, Any] = {
        "rig": rig_of(version.tutorial),
        "page": "export",
        "tutorial": version.tutorial,
        "version": version,
        "versions": version.tutorial.versions.all(),
        "length_s": whole_s,
        "stretch": (first_ms / 1000, (until_ms / 1000) or whole_s)
        if first_ms or until_ms
        else None,
        "can": bool(version.values.shown) and not gone_pieces(version, material),
        "purposes": purposes(material, length_s) if material.takes and length_s else [],
        "form": form or ExportForm(initial=_times(asked)),
        "exports": found,
        "shown": shown,
        "history": history(None, _files(version)),
        "undo_at": reverse("undo-exports", args=[version.pk]),
        "here": reverse("export", args=[version.pk]),
    }
    status = 400 if form and form.errors else 200
    return render(request, "export/export.html", context, status=status)


def _times(asked: StretchForm) -> dict[str, str]:
    """The times that are asked for, for the fields of the form."""
    pairs = zip(("from_s", "until_s"), asked.stretch_ms, strict=True)
    return {name: f"{ms / 1000:g}" for name, ms in pairs if ms}


@require_POST
def new_export(request: HttpRequest, pk: int) -> HttpResponse:
    """Have a file made: for a purpose, or as it is set by hand."""
    version = _version(pk)
    stretch = StretchForm(request.POST).stretch_ms
    wanted = purpose_order(request.POST.get("purpose", ""), stretch)
    form = ExportForm(request.POST) if wanted is None else None
    if form and not form.is_valid():
        return _page(request, version, form)
    try:
        order_export(version=version, wanted=form.order if form else wanted)  # type: ignore[arg-type]
    except CutError as error:
        field = {"until": "until_s"}.get(error.field, error.field)
        if form is None or field not in form.fields:
            raise
        form.add_error(field, str(error))
        return _page(request, version, form)
    return redirect("export", pk)


@require_POST
def again(request: HttpRequest, pk: int) -> HttpResponse:
    """Have a file made after all that could not be made, or was cancelled."""
    found = get_object_or_404(Export.objects.select_related("job"), pk=pk)
    if found.job:
        try_again(job=found.job)
    return redirect("export", found.version_id)


@require_POST
def delete(request: HttpRequest, pk: int) -> HttpResponse:
    """Lay a file into the bin."""
    found = get_object_or_404(Export.objects.select_related("job"), pk=pk)
    delete_export(export=found)
    messages.info(request, f"“{found.file}” lies in the bin until that is emptied.")
    return redirect("export", found.version_id)


@require_POST
def undo(request: HttpRequest, pk: int) -> HttpResponse:
    """Take back what was done last with a version's files, or do it again."""
    changes = changes_of(None, _files(_version(pk)))
    words = take_back(changes, wants_again(request), meant(request))
    tell_undone(request, words, also_in_place=True)
    return redirect("export", pk)


def _files(version: Version) -> QuerySet[Export]:
    """The rows of a version's files, also those in the bin."""
    return Export.with_deleted.filter(version=version)


@require_safe
def export_file(request: HttpRequest, pk: int) -> HttpResponse:
    """The file itself, to be played or downloaded."""
    found = get_object_or_404(Export, pk=pk)
    return file_answer(request, found.path, found.file if "download" in request.GET else "")


@require_safe
def export_picture(request: HttpRequest, pk: int) -> HttpResponse:
    """A small picture of where an export is that is being made; none while there is none."""
    found = get_object_or_404(Export, pk=pk)
    if not found.picture_path.is_file():
        return HttpResponse(status=204)
    answer = file_answer(request, found.picture_path)
    answer["Cache-Control"] = "no-store"
    return answer
