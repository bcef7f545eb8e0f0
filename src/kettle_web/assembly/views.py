"""The assembly page: a tutorial's takes in lines, cut and put in order."""

from collections import Counter
from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from kettle_core.assembly.cut_list import CutList
from kettle_core.errors import CutError
from kettle_core.timing.ticks import NS_PER_S
from kettle_web.assembly.changes import asked_of, change
from kettle_web.assembly.forms import (
    AddedFileForm,
    CardForm,
    ChapterForm,
    FadesForm,
    MusicForm,
    PieceFadesForm,
    QuietForm,
    SpeedForm,
    VersionForm,
)
from kettle_web.assembly.material import Material
from kettle_web.assembly.overview import gone_pieces, overview, quiet_overview
from kettle_web.assembly.retelling import (
    chapter_rows,
    choices,
    layers_there,
    retell,
    retold_rows,
)
from kettle_web.assembly.services import (
    another_version,
    as_now,
    beside,
    delete_version,
    keep_whole,
    rename_version,
    version_of,
    whole_takes,
)
from kettle_web.frame import editing
from kettle_web.frame.asking import WrongFieldError, seen
from kettle_web.frame.door import takes_up_to
from kettle_web.frame.editing import edit
from kettle_web.frame.history import history
from kettle_web.frame.undoing import meant, tell_undone, wants_again
from kettle_web.frame.uploads import MAX_REQUEST_BYTES, TOO_LARGE
from kettle_web.models import Tutorial, Version
from kettle_web.rigs.tutorials import rig_of
from kettle_web.takes.forms import CloseUpForm


@require_safe
def of_tutorial(request: HttpRequest, pk: int) -> HttpResponse:
    """To the tutorial's version that was made first."""
    tutorial = get_object_or_404(Tutorial, pk=pk)
    return redirect(version_of(tutorial, Material(tutorial)))


@require_safe
def assembly(request: HttpRequest, pk: int) -> HttpResponse:
    """The page of a version."""
    return _page(request, _version(pk))


def _version(pk: int) -> Version:
    return get_object_or_404(Version.objects.select_related("tutorial"), pk=pk)


def _page(
    request: HttpRequest, version: Version, wrong: dict[str, Any] | None = None
) -> HttpResponse:
    wrong, tutorial = wrong or {}, version.tutorial
    material = Material(tutorial)
    cuts = as_now(version, material).values
    versions = [(one, float(one.values.length_ns) / NS_PER_S) for one in tutorial.versions.all()]
    drawn = overview(version, material)
    context = {
        "rig": rig_of(tutorial),
        "page": "assembly",
        "tutorial": tutorial,
        "version": version,
        "versions": versions,
        "cuts": drawn,
        "length_s": drawn["length_s"],
        "whole_s": sum(p.until_ns - p.from_ns for p in cuts.pieces) / NS_PER_S,
        "pieces": len(cuts.pieces),
        "out": sum(p.out for p in cuts.pieces),
        "faster": sum(p.percent != 100 and not p.out for p in cuts.pieces),
        "used": len({p.take for p in cuts.shown if cuts.source(p).kind == "take"}),
        "chapters": chapter_rows(cuts, material, wrong),
        "chapter": wrong.get("chapter") or ChapterForm(),
        "choices": choices(material),
        "close_up": wrong.get("close_up") or CloseUpForm(auto_id="close-up-%s"),
        "retold": retold_rows(cuts, material),
        "takes": [(take, found.row) for take, found in material.own.items()],
        "gone": gone_pieces(version, material),
        "speed": wrong.get("speed") or SpeedForm(initial=_last_speed(cuts)),
        "quiet": wrong.get("quiet") or QuietForm(),
        "card": wrong.get("card") or CardForm(),
        "fades": wrong.get("fades")
        or FadesForm(initial={"fade_in": cuts.fade_in_ms, "fade_out": cuts.fade_out_ms}),
        "piece_fades": wrong.get("piece_fades")
        or PieceFadesForm(initial={"fade_in": 0, "fade_out": 0}),
        "music": wrong.get("music") or MusicForm(initial=_music_now(cuts), files=cuts.files),
        "added": wrong.get("added") or AddedFileForm(),
        "name": wrong.get("name") or VersionForm(initial={"name": version.name}),
        "fresh": wrong.get("fresh") or VersionForm(prefix="new"),
        "history": history(version, beside(version)),
        "undo_at": reverse("undo-assembly", args=[version.pk]),
        "here": version.get_absolute_url(),
    }
    return render(request, "assembly/assembly.html", context, status=400 if wrong else 200)


def _music_now(cuts: CutList) -> dict[str, Any]:
    return {"bed": cuts.music.bed, "gain_db": f"{cuts.music.gain_db:g}"} if cuts.music else {}


def _last_speed(cuts: CutList) -> dict[str, Any]:
    """What is used most already is most likely wanted again."""
    found = Counter((p.percent, p.sound) for p in cuts.pieces if p.percent != 100)
    if not found:
        return {}
    (percent, sound), _ = found.most_common(1)[0]
    return {"speed": f"{percent / 100:g}", "sound": sound}


@require_safe
def quiet(request: HttpRequest, pk: int) -> HttpResponse:
    """Quiet stretches by the values given, and what leaving them out would make of the program."""
    version, form = _version(pk), QuietForm(request.GET)
    if not form.is_valid():
        raise CutError(" ".join(str(errors[0]) for errors in form.errors.values()), "below")
    material = Material(version.tutorial)
    as_now(version, material)
    post = request.GET.copy()
    post["part"] = "quiet-out"
    return JsonResponse(
        quiet_overview(version.values, asked_of(post, material, version.values), form)
    )


@require_safe
def layers(request: HttpRequest, pk: int) -> HttpResponse:
    """The layers that are seen at a place of a version, to be taken hold of."""
    version = _version(pk)
    material = Material(version.tutorial)
    as_now(version, material)
    return JsonResponse(
        layers_there(version.values, asked_of(request.GET, material, CutList()), material)
    )


@takes_up_to(MAX_REQUEST_BYTES, TOO_LARGE)
@require_POST
def change_assembly(request: HttpRequest, pk: int) -> HttpResponse:
    """One form or button of the page: the cut list is changed."""
    version = _version(pk)
    material = Material(version.tutorial)
    keep_whole(version, material)
    try:
        asked = asked_of(request.POST, material, whole_takes(material), request.FILES)
        edit(version, lambda cuts: change(cuts, asked), seen(request))
    except WrongFieldError as refused:
        return _page(request, version, refused.wrong)
    return redirect(version)


@require_POST
def retell_assembly(request: HttpRequest, pk: int) -> HttpResponse:
    """A take told otherwise in this version: scene, pictures, sounds, chapters."""
    version = _version(pk)
    material = Material(version.tutorial)
    keep_whole(version, material)
    asked = asked_of(request.POST, material, version.values)
    try:
        edit(version, lambda cuts: retell(cuts, asked, material), seen(request))
    except WrongFieldError as refused:
        return _page(request, version, refused.wrong)
    return redirect(version)


@require_POST
def undo(request: HttpRequest, pk: int) -> HttpResponse:
    """Take the newest change back, or do it again."""
    version = _version(pk)
    tell_undone(
        request,
        editing.undo(version, seen(request), wants_again(request), meant(request), beside(version)),
    )
    return redirect(version)


@require_POST
def new_version(request: HttpRequest, pk: int) -> HttpResponse:
    """Another version, which begins as this one is."""
    version, form = _version(pk), VersionForm(request.POST, prefix="new")
    as_now(version, Material(version.tutorial))
    if form.is_valid():
        try:
            return redirect(another_version(version=version, name=form.cleaned_data["name"]))
        except CutError as error:
            form.add_error("name", str(error))
    return _page(request, version, {"fresh": form})


@require_POST
def rename(request: HttpRequest, pk: int) -> HttpResponse:
    """A version called otherwise."""
    version, form = _version(pk), VersionForm(request.POST)
    if form.is_valid():
        try:
            rename_version(version=version, name=form.cleaned_data["name"])
        except CutError as error:
            form.add_error("name", str(error))
        else:
            return redirect(version)
    return _page(request, version, {"name": form})


@require_POST
def delete(request: HttpRequest, pk: int) -> HttpResponse:
    """A version into the bin; the takes stay."""
    version = _version(pk)
    delete_version(version=version)
    messages.info(request, f"The version “{version.name}” lies in the bin. The takes stay.")
    return redirect("tutorial-assembly", version.tutorial_id)
