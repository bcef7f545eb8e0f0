"""The Sound step: a chain for each sound, voice over background, ducking, the tracks table."""

import json
import time
from dataclasses import replace

from django import forms
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from kettle_core.errors import KettleError, RigError
from kettle_core.rig import sound_changes
from kettle_core.rig.rig import Input
from kettle_core.rig.rig import Rig as RigValues
from kettle_core.sound.tone import Tone
from kettle_media.sound.compare_sound import compare_sound
from kettle_web.frame.engine import engine
from kettle_web.models import Rig
from kettle_web.rigs.addresses import sound_address
from kettle_web.rigs.heard import heard_name, heard_path
from kettle_web.rigs.services import change_rig
from kettle_web.sound import selectors
from kettle_web.sound.forms import ChainForm, DuckingForm, MixForm, StemForm

LISTEN_S = 10.0


def _rig_and_sound(slug: str, input_id: str) -> tuple[Rig, Input]:
    rig = get_object_or_404(Rig, slug=slug)
    for item in sound_changes.sounds_of(rig.values):
        if item.id == input_id:
            return rig, item
    raise Http404("The rig has no such sound, or it is off.")


@require_safe
def sound(request: HttpRequest, slug: str) -> HttpResponse:
    """The Sound step: the first voice."""
    rig = get_object_or_404(Rig, slug=slug)
    first = selectors.first_sound(rig.values)
    if first:
        return redirect("sound-of", slug, first.id)
    return render(request, "sound/chain.html", {"rig": rig, "page": "sound", "sounds": ()})


@require_safe
def page(request: HttpRequest, slug: str, input_id: str) -> HttpResponse:
    """One sound's chain."""
    return _page(request, *_rig_and_sound(slug, input_id))


def _page(
    request: HttpRequest, rig: Rig, item: Input, wrong: dict[str, forms.Form] | None = None
) -> HttpResponse:
    context = selectors.sound_page(rig, item, wrong)
    return render(request, "sound/chain.html", context, status=400 if wrong else 200)


@require_POST
def save(request: HttpRequest, slug: str, input_id: str) -> HttpResponse:
    """One form or button of the Sound page: chain, proposal, ducking, or a background's gain."""
    rig, item = _rig_and_sound(slug, input_id)
    values, part = rig.values, request.POST.get("part", "")
    if part == "chain":
        chain = ChainForm(request.POST, auto_id="chain-%s")
        if not chain.is_valid():
            return _page(request, rig, item, {"chain": chain})
        changed = sound_changes.with_tone(values, item.id, chain.to_tone(item.tone))
        words = f"{item.name}: chain changed"
    elif part == "ducking":
        ducking = DuckingForm(request.POST, auto_id="ducking-%s")
        if not ducking.is_valid():
            return _page(request, rig, item, {"ducking": ducking})
        changed, words = replace(values, ducking=ducking.to_ducking()), "ducking changed"
    elif part == "proposal":
        found = selectors.compared(rig, item)
        if not found or not found["proposal"]:
            raise RigError("Nothing is proposed yet. Listen first.", part)
        changed = sound_changes.with_tone(values, item.id, Tone(**found["proposal"]["tone"]))
        words = f"{item.name}: the proposed chain taken"
    elif part == "background":
        changed = _with_background(values, request.POST.get("gain_db", ""))
        words = "the proposed gain of the background taken"
    else:
        raise RigError("This can't be set on the Sound page. Reload the page.", part)
    change_rig(rig=rig, values=changed, words=words)
    if part in ("chain", "proposal"):
        _compare_again(rig, changed.input(item.id))
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
    found = engine().ask("hear", input=item.id, name=heard_name(rig, item), seconds=LISTEN_S)
    others = selectors.other_voices(rig.values, item)
    found["shared"] = engine().ask("shared", input=item.id, others=others)
    path = heard_path(rig, item, "json")
    path.write_text(json.dumps({**found, "at": time.time(), "compared": None}))
    _compare_again(rig, item)
    return redirect("sound-of", slug, input_id)


def _compare_again(rig: Rig, item: Input) -> None:
    """What was heard last, through the chain as it is now."""
    path, raw = heard_path(rig, item, "json"), heard_path(rig, item, "raw")
    if not path.is_file() or not raw.is_file():
        return
    found = json.loads(path.read_text())
    if "compared" not in found:
        return
    files = heard_path(rig, item, "before"), heard_path(rig, item, "after")
    found["compared"] = compare_sound(raw, item.tone, *files)
    path.write_text(json.dumps(found))


@require_safe
def balance(request: HttpRequest, slug: str) -> JsonResponse:
    """Voice over background of the last seconds, as they go into the default scene's mix."""
    values = get_object_or_404(Rig, slug=slug).values
    sides = selectors.balance_sides(values, values.default_scene)
    for side, word in (("voices", "voice"), ("backgrounds", "background")):
        if not sides[side]:
            sentence = f"“{values.default_scene.name}” has no {word}."
            return JsonResponse({"word": "apart", "verdict": sentence})
    return JsonResponse(engine().ask("balance", **sides))


@require_safe
def stems(request: HttpRequest, slug: str) -> HttpResponse:
    """The table of sounds by stems."""
    rig = get_object_or_404(Rig, slug=slug)
    context = selectors.tracks_page(rig, request.GET.get("scene", ""))
    return render(request, "sound/stems.html", context)


@require_POST
def save_stems(request: HttpRequest, slug: str) -> HttpResponse:
    """One crosspoint, name, level or preset of the tracks table."""
    rig = get_object_or_404(Rig, slug=slug)
    values, part = rig.values, request.POST.get("part", "")
    track_id, input_id = request.POST.get("track", ""), request.POST.get("input", "")
    scene_id, wrong = request.POST.get("scene", ""), {}
    try:
        if part == "preset":
            preset = request.POST.get("preset", "")
            made = sound_changes.preset_stems(values, preset)
            changed = replace(values, stems=made)
            words = f"stems: {sound_changes.PRESETS[preset]}"
        elif part == "send":
            changed = sound_changes.with_send(values, track_id, input_id)
            words = "stems: crosspoint changed"
        elif part == "delete":
            changed = sound_changes.without_stem(values, track_id)
            words = "stem deleted"
        elif part in ("mix", "level"):
            place = f"mix-{input_id}" if part == "mix" else f"level-{track_id}-{input_id}"
            form: forms.Form = MixForm(request.POST, auto_id=f"{place}-%s")
            wrong = {place: form}
            if not form.is_valid():
                return _tracks_again(request, rig, scene_id, wrong)
            gain_db = round(form.cleaned_data["gain_db"], 1)
            if part == "mix":
                changed = sound_changes.with_mix_gain(values, scene_id, input_id, gain_db)
            else:
                changed = sound_changes.with_send_gain(values, track_id, input_id, gain_db)
            words = f"{values.input(input_id).name}: level changed"
        else:
            named, words, wrong = _named_track(request, values, track_id)
            if named is None:
                return _tracks_again(request, rig, scene_id, wrong)
            changed = named
    except KettleError as error:
        if not wrong:
            raise
        next(iter(wrong.values())).add_error(None, str(error))
        return _tracks_again(request, rig, scene_id, wrong)
    change_rig(rig=rig, values=changed, words=words)
    address = sound_address(slug, "tracks")
    return redirect(f"{address}?scene={scene_id}" if scene_id else address)


def _named_track(
    request: HttpRequest, values: RigValues, track_id: str
) -> tuple[RigValues | None, str, dict[str, forms.Form]]:
    """A track made, renamed, or made mono or stereo; None where a field is wrong."""
    name = f"track-{track_id}" if track_id else "new"
    form = StemForm(request.POST, auto_id=f"{name}-%s")
    if not form.is_valid():
        return None, "", {name: form}
    given = form.cleaned_data["name"], form.cleaned_data["channels"]
    try:
        if track_id:
            changed = sound_changes.with_changed_track(values, track_id, *given)
            return changed, "stem changed", {}
        return sound_changes.with_stem(values, *given), "stem added", {}
    except RigError as error:
        form.add_error("name", str(error))
        return None, "", {name: form}


def _tracks_again(
    request: HttpRequest, rig: Rig, scene_id: str, wrong: dict[str, forms.Form]
) -> HttpResponse:
    context = selectors.tracks_page(rig, scene_id, wrong)
    return render(request, "sound/stems.html", context, status=400)
