"""The Sound step: a chain for each sound, voice over background, ducking, the tracks table."""

import json
import time
from collections.abc import Callable
from dataclasses import replace
from urllib.parse import urlencode

from django import forms
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse, QueryDict
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from kettle_core.errors import KettleError, RigError
from kettle_core.rig import sound_changes
from kettle_core.rig.rig import Input
from kettle_core.rig.rig import Rig as RigValues
from kettle_core.sound.tone import Tone
from kettle_web.frame.asking import WrongFieldError, given, seen
from kettle_web.frame.editing import Made, edit
from kettle_web.jobs.services import SOON, order
from kettle_web.models import Rig
from kettle_web.rigs.addresses import gone, sound_address
from kettle_web.rigs.engines import engine_of
from kettle_web.rigs.heard import heard_name, heard_path
from kettle_web.sound import selectors
from kettle_web.sound.forms import ChainForm, DuckingForm, MixForm, StemForm

LISTEN_S = 10.0


def _rig_and_sound(slug: str, input_id: str) -> tuple[Rig, Input]:
    rig = get_object_or_404(Rig.with_takes, slug=slug)
    for item in sound_changes.sounds_of(rig.values):
        if item.id == input_id:
            return rig, item
    raise Http404("The rig has no such sound, or it is off.")


@require_safe
def sound(request: HttpRequest, slug: str) -> HttpResponse:
    """The Sound step: the first voice."""
    rig = get_object_or_404(Rig.with_takes, slug=slug)
    first = selectors.first_sound(rig.values)
    if first:
        return redirect("sound-of", slug, first.id)
    return render(request, "sound/chain.html", {"rig": rig, "page": "sound", "sounds": ()})


@require_safe
def page(request: HttpRequest, slug: str, input_id: str) -> HttpResponse:
    """One sound's chain."""
    try:
        rig, item = _rig_and_sound(slug, input_id)
    except Http404:
        return gone(request, slug, "This sound is not in the rig any more, or it is off.")
    return _page(request, rig, item)


def _page(
    request: HttpRequest, rig: Rig, item: Input, wrong: dict[str, forms.Form] | None = None
) -> HttpResponse:
    context = selectors.sound_page(rig, item, wrong)
    return render(request, "sound/chain.html", context, status=400 if wrong else 200)


@require_POST
def save(request: HttpRequest, slug: str, input_id: str) -> HttpResponse:
    """One form or button of the Sound page: chain, proposal, ducking, or a background's gain."""
    rig, item = _rig_and_sound(slug, input_id)
    part = request.POST.get("part", "")
    found = selectors.compared(rig, item) if part == "proposal" else None
    proposed = found and found["proposal"]

    def changed(values: RigValues) -> Made[RigValues]:
        item = values.input(input_id)
        if part == "chain":
            chain = ChainForm(given(request.POST, selectors.chain_form(item)), auto_id="chain-%s")
            if not chain.is_valid():
                raise WrongFieldError(chain=chain)
            made = sound_changes.with_tone(values, item.id, chain.to_tone(item.tone))
            return made, f"{item.name}: chain changed"
        if part == "ducking":
            fresh = selectors.ducking_form(values)
            ducking = DuckingForm(given(request.POST, fresh), auto_id="ducking-%s")
            if not ducking.is_valid():
                raise WrongFieldError(ducking=ducking)
            return replace(values, ducking=ducking.to_ducking()), "ducking changed"
        if part == "proposal":
            if not proposed:
                raise RigError("Nothing is proposed yet. Listen first.", part)
            made = sound_changes.with_tone(values, item.id, Tone(**proposed["tone"]))
            return made, f"{item.name}: the proposed chain taken"
        if part == "background":
            made = _with_background(values, request.POST.get("gain_db", ""))
            return made, "the proposed gain of the background taken"
        raise RigError("This can't be set on the Sound page. Reload the page.", part)

    try:
        edit(rig, changed, seen(request))
    except WrongFieldError as refused:
        return _page(request, rig, rig.values.input(input_id), refused.wrong)
    if part in ("chain", "proposal"):
        _compare_again(rig, rig.values.input(item.id))
    return redirect("sound-of", slug, input_id)


def _with_background(values: RigValues, text: str) -> RigValues:
    """Every background of the default scene with a gain more. Raises RigError."""
    form = MixForm({"gain_db": text})
    if not form.is_valid():
        raise RigError("This gain can't be taken. Measure again.", "gain_db")
    more_db, scene = form.cleaned_data["gain_db"], values.default_scene
    for input_id, gain_db in selectors.balance_sides(values, scene)["backgrounds"]:
        within = min(max(gain_db + more_db, -60.0), 20.0)
        values = sound_changes.with_mix_gain(values, scene.id, input_id, within)
    return values


@require_POST
def listen(request: HttpRequest, slug: str, input_id: str) -> HttpResponse:
    """Keep the last ten seconds of a sound and run them through its chain."""
    rig, item = _rig_and_sound(slug, input_id)
    shows = engine_of(rig)
    found = shows.ask("hear", input=item.id, name=heard_name(rig, item), seconds=LISTEN_S)
    others = selectors.other_voices(rig.values, item)
    found["shared"] = shows.ask("shared", input=item.id, others=others)
    path = heard_path(rig, item, "json")
    path.write_text(json.dumps({**found, "at": time.time(), "compared": None}))
    _compare_again(rig, item)
    return redirect("sound-of", slug, input_id)


def _compare_again(rig: Rig, item: Input) -> None:
    """Have what was heard last go through the chain as it is now."""
    path, raw = heard_path(rig, item, "json"), heard_path(rig, item, "raw")
    if not path.is_file() or not raw.is_file():
        return
    if "compared" in json.loads(path.read_text()):
        subject = selectors.comparison_of(rig, item)
        title = f"{item.name} before and after its chain"
        order(kind="comparison", queue=SOON, subject=subject, title=title, afresh=True)


@require_safe
def balance(request: HttpRequest, slug: str) -> JsonResponse:
    """Voice over background of the last seconds, as they go into the default scene's mix."""
    rig = get_object_or_404(Rig.with_takes, slug=slug)
    values = rig.values
    sides = selectors.balance_sides(values, values.default_scene)
    for side, word in (("voices", "voice"), ("backgrounds", "background")):
        if not sides[side]:
            sentence = f"“{values.default_scene.name}” has no {word}."
            return JsonResponse({"word": "apart", "verdict": sentence})
    return JsonResponse(engine_of(rig).ask("balance", **sides))


@require_safe
def stems(request: HttpRequest, slug: str) -> HttpResponse:
    """The table of sounds by stems."""
    rig = get_object_or_404(Rig.with_takes, slug=slug)
    context = selectors.tracks_page(rig, request.GET.get("scene", ""))
    return render(request, "sound/stems.html", context)


@require_POST
def save_stems(request: HttpRequest, slug: str) -> HttpResponse:
    """One crosspoint, name, level or preset of the tracks table."""
    rig = get_object_or_404(Rig.with_takes, slug=slug)
    scene_id = request.POST.get("scene", "")
    change = _STEM_CHANGES.get(request.POST.get("part", ""), _named)
    try:
        edit(rig, lambda values: change(values, request.POST), seen(request))
    except WrongFieldError as refused:
        return _tracks_again(request, rig, scene_id, refused.wrong)
    address = sound_address(slug, "tracks")
    return redirect(f"{address}?{urlencode({'scene': scene_id})}" if scene_id else address)


def _preset(values: RigValues, post: QueryDict) -> Made[RigValues]:
    preset = post.get("preset", "")
    made = replace(values, stems=sound_changes.preset_stems(values, preset))
    return made, f"stems: {sound_changes.PRESETS[preset]}"


def _send(values: RigValues, post: QueryDict) -> Made[RigValues]:
    names = post.get("track", ""), post.get("input", "")
    made = sound_changes.with_send(values, *names, post.get("on") == "on")
    return made, "stems: crosspoint changed"


def _delete(values: RigValues, post: QueryDict) -> Made[RigValues]:
    return sound_changes.without_stem(values, post.get("track", "")), "stem deleted"


def _level(values: RigValues, post: QueryDict) -> Made[RigValues]:
    """A level in the mix of a scene, or on a stem."""
    input_id, track_id, scene_id = (post.get(n, "") for n in ("input", "track", "scene"))
    in_mix = post.get("part") == "mix"
    place = f"mix-{input_id}" if in_mix else f"level-{track_id}-{input_id}"
    form = MixForm(post, auto_id=f"{place}-%s")
    if not form.is_valid():
        raise WrongFieldError(**{place: form})
    gain_db = round(form.cleaned_data["gain_db"], 1)
    try:
        if in_mix:
            made = sound_changes.with_mix_gain(values, scene_id, input_id, gain_db)
        else:
            made = sound_changes.with_send_gain(values, track_id, input_id, gain_db)
    except KettleError as error:
        form.add_error("gain_db", str(error))
        raise WrongFieldError(**{place: form}) from error
    return made, f"{values.input(input_id).name}: level changed"


def _named(values: RigValues, post: QueryDict) -> Made[RigValues]:
    """A stem made, renamed, or made mono or stereo."""
    track_id = post.get("track", "")
    place = f"track-{track_id}" if track_id else "new"
    form = StemForm(post, auto_id=f"{place}-%s")
    if not form.is_valid():
        raise WrongFieldError(**{place: form})
    wanted = form.cleaned_data["name"], form.cleaned_data["channels"]
    try:
        if track_id:
            return sound_changes.with_changed_track(values, track_id, *wanted), "stem changed"
        return sound_changes.with_stem(values, *wanted), "stem added"
    except RigError as error:
        form.add_error("name", str(error))
        raise WrongFieldError(**{place: form}) from error


_STEM_CHANGES: dict[str, Callable[[RigValues, QueryDict], Made[RigValues]]] = {
    "preset": _preset,
    "send": _send,
    "delete": _delete,
    "mix": _level,
    "level": _level,
}


def _tracks_again(
    request: HttpRequest, rig: Rig, scene_id: str, wrong: dict[str, forms.Form]
) -> HttpResponse:
    context = selectors.tracks_page(rig, scene_id, wrong)
    return render(request, "sound/stems.html", context, status=400)
