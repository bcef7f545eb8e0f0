"""Views: read the form, call one service or selector, render or redirect."""

from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST, require_safe

from kettle_core.errors import RigError
from kettle_core.rig.changes import with_crosspoint, with_format
from kettle_media.take.folder import TakeFolder
from kettle_web import selectors, services
from kettle_web.errors import wants_json
from kettle_web.forms import CrosspointForm, FormatForm, RecordForm, RigForm
from kettle_web.media import DOWNLOADS, serve_file, take_files
from kettle_web.models import Rig, Take
from kettle_web.scene_views import scene_address
from kettle_web.sound_selectors import sound_address


@require_safe
def start(request: HttpRequest) -> HttpResponse:
    """Rigs and takes."""
    services.look_after_takes()
    return start_page(request)


def start_page(
    request: HttpRequest, form: RigForm | None = None, import_error: str = ""
) -> HttpResponse:
    """The start page, with what was wrong with a new or an imported rig."""
    context = {
        "rigs": Rig.objects.all(),
        "takes": Take.objects.select_related("rig")[:24],
        "form": form or RigForm(),
        "import_error": import_error,
        "engine": services.status_or_message(),
    }
    status = 400 if form or import_error else 200
    return render(request, "kettle/start.html", context, status=status)


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


def patch_sheet_page(
    request: HttpRequest,
    rig: Rig,
    form: FormatForm | None = None,
    wrong: dict[str, str] | None = None,
) -> HttpResponse:
    """The patch sheet with what was wrong in the format, or in a row: its input, text, error."""
    values = rig.values
    size = f"{values.format.frame_width}x{values.format.frame_height}"
    context: dict[str, Any] = {
        "rig": rig,
        "values": values,
        "page": "inputs",
        "form": form or FormatForm(initial={"frame_size": size, "fps": str(values.format.fps)}),
        "strip": selectors.level_strip(),
        "costs": selectors.rig_costs(rig),
        "undo": rig.changes.filter(undone=False).first(),
        "redo": rig.changes.filter(undone=True).last(),
        **selectors.patch_sheet(values),
    }
    context["wrong"] = wrong
    context["engine"] = services.status_or_message()
    status = 400 if form or wrong else 200
    return render(request, "kettle/patch_sheet.html", context, status=status)


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


@require_safe
def record(request: HttpRequest, slug: str) -> HttpResponse:
    """The Record page."""
    rig = get_object_or_404(Rig, slug=slug)
    services.look_after_takes()
    return _record(request, rig, RecordForm())


def _record(request: HttpRequest, rig: Rig, form: RecordForm) -> HttpResponse:
    values = rig.values
    context = {
        "rig": rig,
        "values": values,
        "page": "record",
        "form": form,
        "strip": selectors.level_strip(),
        "sounds": [i for i in values.inputs if i.on and not i.is_picture],
        "tracks": [i for i in values.inputs if i.has_track],
        "voice": values.voice_in(values.default_scene),
        "engine": services.status_or_message(),
        "last": rig.takes.exclude(state=Take.State.RECORDING).first(),
    }
    return render(request, "kettle/record.html", context, status=400 if form.errors else 200)


@require_POST
def record_start(request: HttpRequest, slug: str) -> HttpResponse:
    """Count down and record."""
    rig = get_object_or_404(Rig, slug=slug)
    form = RecordForm(request.POST)
    if not form.is_valid():
        if wants_json(request):
            sentence = str(next(iter(form.errors.values()))[0])
            return JsonResponse({"error": sentence, "field": "countdown_s"}, status=400)
        return _record(request, rig, form)
    take = services.start_take(rig=rig, countdown_s=form.cleaned_data["countdown_s"])
    if wants_json(request):
        return JsonResponse({"take": take.pk})
    return redirect("record", slug)


@require_POST
def record_stop(request: HttpRequest, slug: str) -> HttpResponse:
    """Stop the take and go to it; in the countdown, stay."""
    take = services.stop_take()
    target = take.get_absolute_url() if take else ""
    if wants_json(request):
        return JsonResponse({"take_url": target})
    if take:
        return redirect(take)
    messages.info(request, "Stopped in the countdown, so nothing was recorded.")
    return redirect("record", slug)


@require_safe
def takes(request: HttpRequest, slug: str) -> HttpResponse:
    """The rig's takes."""
    services.look_after_takes()
    rig = get_object_or_404(Rig, slug=slug)
    context = {"rig": rig, "page": "takes", "takes": rig.takes.all()}
    return render(request, "kettle/takes.html", context)


@require_safe
def take(request: HttpRequest, pk: int) -> HttpResponse:
    """One take: play, sync, download."""
    services.look_after_takes()
    found = get_object_or_404(Take.objects.select_related("rig"), pk=pk)
    context = {
        "rig": found.rig,
        "page": "takes",
        "take": found,
        "files": take_files(found),
        "progress": selectors.program_progress(found),
        "sync": selectors.sync_report(found),
    }
    return render(request, "kettle/take.html", context)


@require_GET
def take_progress(request: HttpRequest, pk: int) -> HttpResponse:
    """How far composing is, for the page's script."""
    services.look_after_takes()
    found = get_object_or_404(Take, pk=pk)
    return JsonResponse(selectors.program_progress(found))


@require_POST
def take_compose(request: HttpRequest, pk: int) -> HttpResponse:
    """Compose again after a failure."""
    found = get_object_or_404(Take, pk=pk)
    if found.program == Take.Program.FAILED:
        services.order_program(take=found)
    return redirect(found)


@require_safe
def take_file(request: HttpRequest, pk: int, kind: str, name: str) -> HttpResponse:
    """One of the take's own files, by name; never a path from outside."""
    found = get_object_or_404(Take, pk=pk)
    return serve_file(request, TakeFolder(found.path), found, kind, name, kind in DOWNLOADS)
