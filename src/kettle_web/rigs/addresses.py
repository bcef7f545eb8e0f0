"""Addresses with what is selected on the page."""

from urllib.parse import urlencode

from django.urls import reverse


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
