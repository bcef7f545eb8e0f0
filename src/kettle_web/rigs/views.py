"""The patch sheet: its page, crosspoints and undo; new rigs."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.views.decorators.http import require_POST, require_safe

from kettle_core.errors import RigError
from kettle_core.rig.changes import with_crosspoint
from kettle_core.rig.rig import Rig as RigValues
from kettle_web.frame import editing
from kettle_web.frame.asking import seen
from kettle_web.frame.editing import Made, edit
from kettle_web.frame.undoing import meant, tell_undone, wants_again
from kettle_web.models import Rig
from kettle_web.rigs import services
from kettle_web.rigs.addresses import way_back
from kettle_web.rigs.forms import RigForm
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
def set_crosspoint(request: HttpRequest, slug: str) -> HttpResponse:
    """Seen, heard or recorded, or not: as it is wanted, whatever it is now."""
    rig = get_object_or_404(Rig, slug=slug)
    # A button says in its one value what of which input is wanted where.
    input_id, what, how, scene_id = (*request.POST.get("cross", "").split(" "), "", "", "", "")[:4]
    if how not in ("on", "off"):
        raise RigError("This crosspoint is not on the patch sheet. Reload the page.", "cross")

    def changed(values: RigValues) -> Made[RigValues]:
        name = values.input(input_id).name
        made = with_crosspoint(values, input_id, what, scene_id, how == "on")
        return made, f"{what} changed for {name}"

    edit(rig, changed, seen(request))
    return redirect(rig)


@require_POST
def undo(request: HttpRequest, slug: str) -> HttpResponse:
    """Take the newest change of a rig back, or do it again."""
    rig = get_object_or_404(Rig.with_takes, slug=slug)
    # A page's own later changes are known to it: what its button says counts.
    words = editing.undo(rig, seen(request), wants_again(request), meant(request))
    tell_undone(request, words, also_in_place=True)
    return redirect(way_back(rig, request.POST.get("to", "")))
