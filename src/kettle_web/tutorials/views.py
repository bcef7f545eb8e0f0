"""A tutorial's page: its name, its running order, its takes."""

from typing import Any

from django.contrib import messages
from django.forms import Form
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from kettle_core.program.running_order import RunningOrder, outline_of
from kettle_web.frame import editing
from kettle_web.frame.asking import WrongFieldError, seen
from kettle_web.frame.editing import Made, edit, set_fields
from kettle_web.frame.history import history
from kettle_web.frame.undoing import meant, tell_undone, wants_again
from kettle_web.library.selectors import page_of_takes
from kettle_web.models import Tutorial
from kettle_web.rigs.tutorials import rig_of, scene_names
from kettle_web.tutorials.changes import change
from kettle_web.tutorials.forms import DescriptionForm, OutlineForm, StepForm, TutorialForm
from kettle_web.tutorials.live import tell_engine

# What a tutorial is called and shows is no part of its running order, but undone with it.
OF_ROW: dict[str, tuple[type[Form], str]] = {
    "name": (TutorialForm, "name changed"),
    "description": (DescriptionForm, "description changed"),
}


@require_POST
def new(request: HttpRequest) -> HttpResponse:
    """A tutorial with a name."""
    form = TutorialForm(request.POST)
    if not form.is_valid():
        messages.error(request, str(form.errors["name"][0]))
        return redirect("start")
    return redirect(Tutorial.objects.create(name=form.cleaned_data["name"]))


@require_safe
def tutorial(request: HttpRequest, pk: int) -> HttpResponse:
    """The page."""
    return _page(request, get_object_or_404(Tutorial, pk=pk))


def _page(
    request: HttpRequest, found: Tutorial, wrong: dict[str, Any] | None = None
) -> HttpResponse:
    wrong, scenes, rig = wrong or {}, scene_names(found), rig_of(found)
    order: RunningOrder = found.values
    context = {
        "tutorial": found,
        "rig": rig,
        "page": "",
        "order": order,
        "rows": [
            (step, wrong.get(f"step:{step.id}") or StepForm(step=step, scenes=scenes))
            for step in order.steps
        ],
        "fresh": wrong.get("new") or StepForm(scenes=scenes),
        "outline": wrong.get("outline") or OutlineForm(initial={"outline": outline_of(order)}),
        "about": wrong.get("description")
        or DescriptionForm(initial={"description": found.description}),
        "name": wrong.get("name") or TutorialForm(initial={"name": found.name}),
        "takes": page_of_takes(found.takes.filter(deleted_at=None), request.GET),
        "history": history(found),
        "undo_at": reverse("undo-tutorial", args=[found.pk]),
        "here": found.get_absolute_url(),
    }
    return render(request, "tutorials/tutorial.html", context, status=400 if wrong else 200)


@require_POST
def save(request: HttpRequest, pk: int) -> HttpResponse:
    """One form or button of the page."""
    found = get_object_or_404(Tutorial, pk=pk)
    part = request.POST.get("part", "")
    if part in OF_ROW:
        form = OF_ROW[part][0](request.POST)
        if not form.is_valid():
            return _page(request, found, {part: form})
        set_fields(found, form.cleaned_data, OF_ROW[part][1])
        return redirect(found)
    scenes = scene_names(found)

    def changed(order: RunningOrder) -> Made[RunningOrder]:
        return change(order, request.POST, scenes)

    try:
        edit(found, changed, seen(request))
    except WrongFieldError as refused:
        return _page(request, found, refused.wrong)
    tell_engine(found)
    return redirect(found)


@require_POST
def undo(request: HttpRequest, pk: int) -> HttpResponse:
    """Take the newest change of the running order back, or do it again."""
    found = get_object_or_404(Tutorial, pk=pk)
    words = editing.undo(found, seen(request), wants_again(request), meant(request))
    tell_engine(found)
    tell_undone(request, words)
    return redirect(found)
