"""Whole rigs: renamed, duplicated, carried to other machines and back."""

from dataclasses import replace
from typing import Any

from django.contrib import messages
from django.http import FileResponse, Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.views.decorators.http import require_POST, require_safe

from kettle_core.errors import RigError
from kettle_media.rig.rig_file import MAX_FILE_BYTES
from kettle_web.frame.asking import seen
from kettle_web.frame.door import FORM_BYTES, takes_up_to
from kettle_web.frame.editing import edit
from kettle_web.frame.engine import engine, plugged_in_or_none
from kettle_web.frame.form_fields import FileForm
from kettle_web.models import Rig, Still
from kettle_web.rigs import carrying, services
from kettle_web.rigs.forms import RigForm
from kettle_web.rigs.patch_sheet import patch_sheet_page
from kettle_web.rigs.start import start_page

# A message lies in a cookie until the next page, and a cookie holds 4 KB.
MOST_TOLD = 8
TOO_LARGE_RIG = f"A rig file has {MAX_FILE_BYTES / 1e6:.0f} MB at most, so nothing was imported."


@require_POST
def rename(request: HttpRequest, slug: str) -> HttpResponse:
    """Another name; the address stays."""
    rig = get_object_or_404(Rig, slug=slug)
    form = RigForm(request.POST)
    if not form.is_valid():
        text = request.POST.get("name", "")
        wrong = {"rig": rig.slug, "text": text, "error": str(form.errors["name"][0])}
        return patch_sheet_page(request, rig, wrong=wrong)
    name = form.cleaned_data["name"]
    edit(rig, lambda values: (replace(values, name=name), "rig renamed"), seen(request))
    return redirect(rig)


@require_POST
def delete(request: HttpRequest, slug: str) -> HttpResponse:
    """Take a rig out of sight; the start page brings it back. Takes stay."""
    rig = get_object_or_404(Rig, slug=slug)
    services.delete_rig(rig=rig)
    messages.info(request, f"The rig “{rig.name}” lies in the bin. Its takes are still here.")
    return redirect("start")


@require_POST
def duplicate(request: HttpRequest, slug: str) -> HttpResponse:
    """A copy, to be changed without harm."""
    rig = get_object_or_404(Rig, slug=slug)
    copy = carrying.duplicate_rig(rig=rig)
    messages.success(request, f"This is “{copy.name}”, a copy of “{rig.name}”.")
    return redirect(copy)


@require_safe
def export(request: HttpRequest, slug: str) -> HttpResponse:
    """The rig as one file."""
    rig = get_object_or_404(Rig, slug=slug)
    response = HttpResponse(carrying.export_rig(rig=rig), content_type="application/json")
    response["Content-Disposition"] = f'attachment; filename="{rig.slug}.rig.json"'
    return response


@takes_up_to(MAX_FILE_BYTES + FORM_BYTES, TOO_LARGE_RIG)
@require_POST
def import_rig(request: HttpRequest) -> HttpResponse:
    """A rig from a file, with a report of what is not there."""
    form = FileForm(request.POST, request.FILES)
    if not form.is_valid():
        return start_page(request, import_error=str(form.errors["file"][0]))
    data = form.cleaned_data["file"].read(MAX_FILE_BYTES + 1)
    plugged_in: Any = plugged_in_or_none() or None
    try:
        rig, told = carrying.import_rig(data=data, plugged_in=plugged_in)
    except RigError as error:
        return start_page(request, import_error=str(error))
    messages.success(request, f"“{rig.name}” was imported with {len(rig.values.inputs)} inputs.")
    for substitution in told[:MOST_TOLD]:
        messages.warning(request, substitution.sentence)
    if len(told) > MOST_TOLD:
        more = len(told) - MOST_TOLD
        messages.warning(request, f"{more} more inputs are not plugged in as they were.")
    if plugged_in is None:
        messages.warning(
            request, "The recording engine is not running, so its devices were not compared."
        )
    return redirect(rig)


@require_POST
def identify(request: HttpRequest, slug: str) -> HttpResponse:
    """Lay a large label over every display's picture for some seconds."""
    rig = get_object_or_404(Rig, slug=slug)
    engine().ask("identify")
    input_id = request.POST.get("input", "")
    if input_id in [i.id for i in rig.values.inputs]:
        return redirect("input", slug, input_id)
    return redirect(rig)


@require_safe
def still(request: HttpRequest, slug: str, digest: str) -> FileResponse:
    """A picture of the rig's library."""
    found = get_object_or_404(Still, rig__slug=slug, digest=digest)
    if not found.path.is_file():
        raise Http404("The picture's file is missing.")
    return FileResponse(found.path.open("rb"), content_type="image/png")
