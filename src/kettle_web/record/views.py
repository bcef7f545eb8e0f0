"""The Record page: what is about to be recorded, begun, changed while it is recorded, ended."""

import json
import uuid
from contextlib import suppress
from typing import Any
from urllib.parse import urlencode

from django.contrib import messages
from django.http import HttpRequest, HttpResponse, JsonResponse, QueryDict
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from kettle_core.errors import EngineError, RigError
from kettle_web.frame.asking import wants_json, whole_number
from kettle_web.frame.engine import engine
from kettle_web.models import Rig, Take
from kettle_web.record import services
from kettle_web.record.forms import RecordForm, TutorialChoice
from kettle_web.record.keys import ACTIONS, keys, set_keys
from kettle_web.record.selectors import record_page
from kettle_web.rigs.tutorials import tutorial_for

MOST_ID = 64


@require_safe
def record(request: HttpRequest, slug: str) -> HttpResponse:
    """The Record page."""
    return _record(request, get_object_or_404(Rig, slug=slug))


def _record(request: HttpRequest, rig: Rig, form: RecordForm | None = None) -> HttpResponse:
    status = 400 if form and form.errors else 200
    page = record_page(rig, form, request.GET.get("scene", ""), request.GET.get("step", ""))
    return render(request, "record/record.html", page, status=status)


@require_POST
def record_start(request: HttpRequest, slug: str) -> HttpResponse:
    """Count down and record."""
    rig = get_object_or_404(Rig, slug=slug)
    form = RecordForm(rig.values, tutorial_for(rig=rig).values, request.POST)
    if not form.is_valid():
        if wants_json(request):
            field, errors = next(iter(form.errors.items()))
            return JsonResponse({"error": str(errors[0]), "field": field}, status=400)
        return _record(request, rig, form)
    values = form.cleaned_data
    values["step"] = values.get("step", "")
    begins = {name: values[name] for name in ("countdown_s", "scene", "step")}
    take = services.start_take(rig=rig, **begins)
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


@require_POST
def start_over(request: HttpRequest, slug: str) -> HttpResponse:
    """Throw away what was recorded of this take and begin it again."""
    services.start_over()
    return _done(request, slug, {})


@require_POST
def give_up(request: HttpRequest, slug: str) -> HttpResponse:
    """Throw away what was recorded of this take."""
    services.give_up_take()
    return _done(request, slug, {})


@require_POST
def cue(request: HttpRequest, slug: str) -> HttpResponse:
    """Something is changed in the take that is recorded."""
    what, fields = _cue_of(request.POST)
    cue_id = request.POST.get("id", "")[:MOST_ID] or str(uuid.uuid4())
    return _done(request, slug, services.send_cue(cue_id=cue_id, what=what, fields=fields))


def _cue_of(post: QueryDict) -> tuple[str, dict[str, Any]]:
    """What is wanted: a button's one value, such as "scene scene-2", and fields beside it."""
    what, _, value = post.get("cue", "").partition(" ")
    names = {
        "scene": "scene",
        "mark": "text",
        "step": "step",
        "close-up": "times",
        "place": "layer",
    }
    fields: dict[str, Any] = {}
    if value:
        fields[names.get(what, "input")] = value
    if "text" in post:
        fields["text"] = post.get("text", "").strip()
    try:
        if what == "close-up" and "times" in fields:
            fields["times"] = float(fields["times"])
        if at_ns := post.get("at_ns", ""):
            fields["at_ns"] = int(at_ns[:20])
        if what == "place":
            fields |= {name: json.loads(post.get(name, "")) for name in ("box", "turn")}
            fields["scene"] = post.get("scene", "")
    except (ValueError, KeyError, RecursionError) as error:
        raise RigError("This can't be changed so. Reload the page.", "cue") from error
    return what, fields


def _done(request: HttpRequest, slug: str, answer: dict[str, Any]) -> HttpResponse:
    return JsonResponse(answer) if wants_json(request) else redirect("record", slug)


@require_POST
def choose(request: HttpRequest, slug: str) -> HttpResponse:
    """Work on a tutorial with this rig."""
    rig = get_object_or_404(Rig, slug=slug)
    form = TutorialChoice(request.POST)
    if not form.is_valid():
        raise RigError(str(form.errors["tutorial"][0]), "tutorial")
    services.choose_tutorial(rig=rig, tutorial=form.cleaned_data["tutorial"])
    return redirect("record", slug)


@require_POST
def again(request: HttpRequest, slug: str) -> HttpResponse:
    """Record again from a place of a take: its tutorial and format, the scene and step there."""
    rig = get_object_or_404(Rig, slug=slug)
    form = TutorialChoice(request.POST)
    if form.is_valid():
        services.choose_tutorial(rig=rig, tutorial=form.cleaned_data["tutorial"])
    take = Take.objects.filter(pk=whole_number(request.POST.get("take", "")) or 0).first()
    if take and services.format_of_take(rig=rig, take=take):
        messages.info(request, f"The format is as in “{take.name}”. Undo on Format takes it back.")
    scene = request.POST.get("scene", "")
    if any(s.id == scene for s in rig.values.scenes):
        # Without an engine the page says so; it is chosen all the same.
        with suppress(EngineError):
            engine().ask("show_scene", scene=scene)
    named = request.POST.get("step", "")
    steps = tutorial_for(rig=rig).values.steps
    step = next((s.id for s in steps if s.title == named), "")
    query = urlencode({"scene": scene, "step": step})
    return redirect(f"{reverse('record', args=[slug])}?{query}")


@require_POST
def first_scene(request: HttpRequest, slug: str) -> HttpResponse:
    """Have the program show the scene that a take will begin with."""
    rig = get_object_or_404(Rig, slug=slug)
    scene = rig.values.scene(request.POST.get("scene", ""))
    engine().ask("show_scene", scene=scene.id)
    return _done(request, slug, {"scene": scene.id})


@require_http_methods(["GET", "HEAD", "POST"])
def key_sheet(request: HttpRequest, slug: str) -> HttpResponse:
    """The keys: to read, to print, to change."""
    rig = get_object_or_404(Rig, slug=slug)
    wrong: dict[str, str] = {}
    now = keys()
    if request.method == "POST":
        wanted = {a.id: a.default for a in ACTIONS} if "first" in request.POST else request.POST
        wrong = set_keys({a.id: wanted.get(a.id, "") for a in ACTIONS})
        if not wrong:
            return redirect("record-keys", slug)
        now = {a.id: wanted.get(a.id, "")[:12] for a in ACTIONS}
    rows = [(action, now[action.id], wrong.get(action.id, "")) for action in ACTIONS]
    context = {"rig": rig, "page": "record", "rows": rows, "scenes": rig.values.scenes}
    return render(request, "record/keys.html", context, status=400 if wrong else 200)
