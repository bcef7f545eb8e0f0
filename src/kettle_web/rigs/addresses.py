"""Addresses with what is selected on the page."""

from urllib.parse import urlencode

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.urls import Resolver404, resolve, reverse

from kettle_web.models import Rig


def scene_address(slug: str, scene_id: str, layers: list[str], section: str = "") -> str:
    """The address of a scene on the drawing table, with layers selected and a section open."""
    query = [("layer", x) for x in layers] + ([("section", section)] if section else [])
    address = reverse("scene", args=[slug, scene_id])
    return f"{address}?{urlencode(query)}" if query else address


def sound_address(slug: str, place: str) -> str:
    """The address of a sound's chain, or of the tracks table ("tracks")."""
    if place == "tracks":
        return reverse("stems", args=[slug])
    return reverse("sound-of", args=[slug, place])


def gone(request: HttpRequest, slug: str, sentence: str) -> HttpResponse:
    """To the patch sheet of a rig that lacks what a page was asked for, with the reason."""
    rig = get_object_or_404(Rig.with_takes, slug=slug)
    messages.info(request, f"{sentence} Undo brings it back.")
    return redirect(rig)


def way_back(rig: Rig, wanted: str) -> str:
    """Where a page asked to be led back to, if that is one of the rig's; else its patch sheet."""
    home = reverse("patch-sheet", args=[rig.slug])
    try:
        resolve(wanted.partition("?")[0])
    except Resolver404:
        return rig.get_absolute_url()
    return wanted if wanted.startswith(home) else rig.get_absolute_url()
