"""Pages of a rig's inputs: the picture list, a page for each, set-up of a sound step by step."""

import json
import time
from typing import Any

from django.contrib import messages
from django.http import FileResponse, Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from kettle_core.errors import EngineError, KettleError, RigError
from kettle_core.rig.changes import with_input_at, without_input
from kettle_core.rig.rig import Input
from kettle_core.rig.rig import Rig as RigValues
from kettle_media.rig.stills import MAX_UPLOAD_BYTES
from kettle_web.frame.asking import WrongFieldError, seen, wanted_place
from kettle_web.frame.door import takes_up_to
from kettle_web.frame.editing import Made, edit
from kettle_web.frame.engine import engine, plugged_in, plugged_in_or_none, status_or_message
from kettle_web.frame.form_fields import FileForm
from kettle_web.frame.history import history
from kettle_web.frame.selectors import level_strip
from kettle_web.frame.uploads import MAX_REQUEST_BYTES, TOO_LARGE
from kettle_web.inputs import changes, selectors, services
from kettle_web.models import Rig
from kettle_web.rigs.addresses import gone
from kettle_web.rigs.heard import heard_name, heard_path
from kettle_web.rigs.library import keep_still
from kettle_web.rigs.patch_sheet import patch_sheet_page
from kettle_web.rigs.sheet import input_line


def _rig_and_input(slug: str, input_id: str) -> tuple[Rig, Input]:
    """A rig and its input. Raises RigError where the input is gone."""
    rig = get_object_or_404(Rig, slug=slug)
    found: Input | None = next((i for i in rig.values.inputs if i.id == input_id), None)
    if found is None:
        raise RigError(
            "This input is not in the rig any more, so nothing changed. Undo brings it back.",
            "input",
        )
    return rig, found


@takes_up_to(MAX_REQUEST_BYTES, TOO_LARGE)
@require_http_methods(["GET", "HEAD", "POST"])
def add(request: HttpRequest, slug: str) -> HttpResponse:
    """The picture list of what can be added; adding goes on to the new input's page."""
    rig = get_object_or_404(Rig, slug=slug)
    error, kind = "", request.POST.get("kind", "")
    if request.method == "POST":
        try:
            added = _add(request, rig, kind)
            messages.success(
                request, f"{added.name} was added. It is put into a scene on the patch sheet."
            )
            to_set_up = request.POST.get("to") == "set-up"
            return redirect("set-up" if to_set_up else "input", slug, added.id)
        except EngineError:
            raise
        except KettleError as problem:
            error = str(problem)
    context = {
        "rig": rig,
        "page": "inputs",
        "groups": selectors.unused_devices(rig.values),
        "stills": rig.stills.all(),
        "samples": services.SAMPLE_CARDS,
        "strip": level_strip(),
        "engine": status_or_message(),
        "error": error,
        "error_kind": kind,
    }
    return render(request, "inputs/add.html", context, status=400 if error else 200)


def _add(request: HttpRequest, rig: Rig, kind: str) -> Input:
    if kind == "device":
        return services.add_device(rig=rig, device_id=request.POST.get("device", ""))
    if kind == "card":
        return services.add_card(rig=rig, sample=request.POST.get("sample", ""))
    if kind == "still":
        still = get_object_or_404(rig.stills, digest=request.POST.get("digest", ""))
        return services.add_still(rig=rig, still=still)
    form = FileForm(request.POST, request.FILES)
    if not form.is_valid():
        raise RigError(str(form.errors["file"][0]), "file")
    file = form.cleaned_data["file"]
    if kind == "picture":
        limit = MAX_UPLOAD_BYTES
        still = keep_still(rig=rig, data=file.read(limit + 1), name=file.name)
        return services.add_still(rig=rig, still=still)
    return services.add_material(rig=rig, file=file, name=file.name)[0]


@require_POST
def order(request: HttpRequest, slug: str) -> HttpResponse:
    """Move an input to another row."""
    rig = get_object_or_404(Rig, slug=slug)
    input_id = request.POST.get("input", "")

    def moved(values: RigValues) -> Made[RigValues]:
        item = values.input(input_id)
        try:
            place = wanted_place(request.POST, values.inputs.index(item))
        except ValueError as error:
            raise RigError("This row can't be moved there. Reload the page.", "input") from error
        return with_input_at(values, input_id, place), f"{item.name} moved"

    edit(rig, moved, seen(request))
    return redirect(rig)


@require_safe
def page(request: HttpRequest, slug: str, input_id: str) -> HttpResponse:
    """One input: what it shows or sounds like, and how it is set up."""
    try:
        rig, item = _rig_and_input(slug, input_id)
    except RigError:
        return gone(request, slug, "This input is not in the rig any more.")
    return _page(request, rig, item)


def _page(
    request: HttpRequest, rig: Rig, item: Input, part: str = "", forms: Any = None
) -> HttpResponse:
    values = rig.values
    devices = plugged_in_or_none()
    context: dict[str, Any] = {
        "rig": rig,
        "page": "inputs",
        "input": item,
        "line": input_line(item),
        "forms": forms or selectors.input_forms(values, item, devices, stills=rig.stills.all()),
        "device": next((d for d in devices if d.id == item.device), None),
        "strip": level_strip(),
        "engine": status_or_message(),
        "history": history(rig),
        "here": reverse("input", args=[rig.slug, item.id]),
    }
    if item.is_picture:
        context |= {"facts": selectors.picture_facts(values, item)}
    context["besides"] = [] if item.is_still else selectors.surroundings(item)
    return render(request, "inputs/input.html", context, status=400 if part else 200)


@require_POST
def save(request: HttpRequest, slug: str, input_id: str) -> HttpResponse:
    """One form of an input's page, or of its row on the patch sheet."""
    rig, item = _rig_and_input(slug, input_id)
    part, stills = request.POST.get("part", ""), list(rig.stills.all())
    devices = [] if part in ("name", "on") else plugged_in()

    def changed(values: RigValues) -> Made[RigValues]:
        item = values.input(input_id)
        forms = selectors.input_forms(values, item, devices, part, request.POST, stills)
        if part not in forms:
            raise RigError("This can't be set for this input. Reload the page.", part)
        if not forms[part].is_valid():
            raise WrongFieldError(**forms)
        change, words = changes.CHANGES[part]
        data = forms[part].cleaned_data
        if part == "still":
            data["still"] = next(s for s in stills if s.digest == data["digest"])
        try:
            return change(values, item, data, devices), f"{item.name}: {words}"
        except KettleError as error:
            forms[part].add_error(None, str(error))
            raise WrongFieldError(**forms) from error

    try:
        edit(rig, changed, seen(request))
    except WrongFieldError as refused:
        if "back" in request.POST:
            error = str(next(iter(refused.wrong[part].errors.values()))[0])
            wrong = {"input": item.id, "text": request.POST.get("name", ""), "error": error}
            return patch_sheet_page(request, rig, wrong=wrong)
        return _page(request, rig, rig.values.input(input_id), part, refused.wrong)
    if "back" in request.POST:
        return redirect(rig)
    page_name = "set-up" if request.POST.get("to") == "set-up" else "input"
    return redirect(page_name, slug, input_id)


@require_POST
def delete(request: HttpRequest, slug: str, input_id: str) -> HttpResponse:
    """Delete an input; it can be taken back."""
    rig, item = _rig_and_input(slug, input_id)
    used = selectors.scenes_with(rig.values, input_id)

    def without(values: RigValues) -> Made[RigValues]:
        return without_input(values, input_id), f"{values.input(input_id).name} deleted"

    edit(rig, without, seen(request))
    places = f"its places in {used}" if used else "its places"
    messages.info(request, f"{item.name} was deleted with {places}. Undo brings it back.")
    return redirect(rig)


@require_POST
def besides(request: HttpRequest, slug: str, input_id: str) -> HttpResponse:
    """Have something of the computer shown or heard, or not."""
    rig, item = _rig_and_input(slug, input_id)
    on = request.POST.get("on") == "1"
    engine().ask("switch", device=item.device, key=request.POST.get("key", ""), on=on)
    return redirect("input", rig.slug, input_id)


@require_http_methods(["GET", "HEAD", "POST"])
def set_up(request: HttpRequest, slug: str, input_id: str) -> HttpResponse:
    """A sound step by step: choose, speak, see it move, gain, hear it back."""
    rig, item = _rig_and_input(slug, input_id)
    if item.is_picture:
        raise Http404("A picture has no gain to set up.")
    if request.method == "POST":
        found = engine().ask(
            "hear",
            input=item.id,
            name=heard_name(rig, item),
            seconds=_seconds(request.POST.get("seconds", "")),
        )
        path = heard_path(rig, item, "json")
        path.write_text(json.dumps({**found, "at": time.time()}))
        return redirect("set-up", slug, input_id)
    context = {
        "rig": rig,
        "page": "inputs",
        "input": item,
        "ears": selectors.ears(rig.values, item.kind),
        "heard": selectors.heard(rig, item),
        "strip": level_strip(),
        "engine": status_or_message(),
        "is_voice": item.kind == "microphone",
    }
    return render(request, "inputs/set_up.html", context)


def _seconds(text: str) -> float:
    try:
        return min(max(float(text), 2.0), 15.0)
    except ValueError:
        return 10.0


@require_safe
def heard(request: HttpRequest, slug: str, input_id: str, which: str) -> FileResponse:
    """What was heard of an input, as it came, with the gain, or before and after its chain."""
    rig, item = _rig_and_input(slug, input_id)
    path = heard_path(rig, item, which)
    if which not in ("raw", "gain", "before", "after") or not path.is_file():
        raise Http404("Nothing was heard yet.")
    return FileResponse(path.open("rb"), content_type="audio/flac")
