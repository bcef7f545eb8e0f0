"""The start page and the patch sheet."""

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.views.decorators.http import require_POST, require_safe

from kettle_core.errors import RigError
from kettle_core.rig.changes import with_crosspoint, with_format
from kettle_web.models import Rig
from kettle_web.rigs import services
from kettle_web.rigs.addresses import scene_address, sound_address
from kettle_web.rigs.forms import CrosspointForm, FormatForm, RigForm
from kettle_web.rigs.patch_sheet import patch_sheet_page
from kettle_web.rigs.start import start_page


@require_POST
def new_rig(request: HttpRequest) -> HttpResponse:
    """A rig of everything that is plugged in."""
    form = RigForm(request.POST)
    if form.is_valid():
        return redirect(services.create_rig(name=form.cleaned_data["name"]))
    return start_page(request, form)


@require_safe
def patch_sheet(request: HttpRequest, slug: str) -> HttpResponse:
    """The rig's home."""
    rig = get_object_or_404(Rig, slug=slug)
    return patch_sheet_page(request, rig)


@require_POST
def set_format(request: HttpRequest, slug: str) -> HttpResponse:
    """Frame size and rate."""
    rig = get_object_or_404(Rig, slug=slug)
    form = FormatForm(request.POST)
    if not form.is_valid():
        return patch_sheet_page(request, rig, form)
    values = rig.values
    changed = with_format(values, form.to_format(values.format))
    services.change_rig(rig=rig, values=changed, words="format changed")
    return redirect(rig)


@require_POST
def set_crosspoint(request: HttpRequest, slug: str) -> HttpResponse:
    """Seen, heard or recorded, changed over."""
    rig = get_object_or_404(Rig, slug=slug)
    form = CrosspointForm(request.POST)
    if not form.is_valid():
        raise RigError("This crosspoint is not on the patch sheet. Reload the page.", "input")
    data = form.cleaned_data
    values = with_crosspoint(rig.values, data["input"], data["what"], data["scene"])
    name = values.input(data["input"]).name
    services.change_rig(rig=rig, values=values, words=f"{data['what']} changed for {name}")
    return redirect(rig)


@require_POST
def undo(request: HttpRequest, slug: str) -> HttpResponse:
    """Take the last change of a rig back, or do it again."""
    rig = get_object_or_404(Rig, slug=slug)
    again = "again" in request.POST
    words = services.undo_change(rig=rig, again=again)
    if words:
        messages.info(request, f"{'Done again' if again else 'Taken back'}: {words}.")
    input_id = request.POST.get("input", "")
    if input_id in [i.id for i in rig.values.inputs]:
        return redirect("input", slug, input_id)
    if sound := request.POST.get("sound", ""):
        return redirect(sound_address(slug, sound))
    scene_id = request.POST.get("scene", "")
    if scene_id:
        return redirect(scene_address(slug, scene_id, request.POST.getlist("layer")))
    return redirect(rig)
