"""The Record page: begin and stop a take."""

from django.contrib import messages
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from kettle_web.frame.asking import wants_json
from kettle_web.frame.engine import status_or_message
from kettle_web.frame.selectors import level_strip
from kettle_web.models import Rig, Take
from kettle_web.record import services
from kettle_web.record.forms import RecordForm


@require_safe
def record(request: HttpRequest, slug: str) -> HttpResponse:
    """The Record page."""
    rig = get_object_or_404(Rig, slug=slug)
    return _record(request, rig, RecordForm())


def _record(request: HttpRequest, rig: Rig, form: RecordForm) -> HttpResponse:
    values = rig.values
    context = {
        "rig": rig,
        "values": values,
        "page": "record",
        "form": form,
        "strip": level_strip(),
        "sounds": [i for i in values.inputs if i.on and not i.is_picture],
        "tracks": [i for i in values.inputs if i.has_track],
        "voice": values.voice_in(values.default_scene),
        "engine": status_or_message(),
        "last": rig.takes.exclude(state=Take.State.RECORDING).first(),
    }
    return render(request, "record/record.html", context, status=400 if form.errors else 200)


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
