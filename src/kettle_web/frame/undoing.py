"""Undo on a page: what was asked for, and how it is told what was done."""

from django.contrib import messages
from django.http import HttpRequest

from kettle_web.frame.asking import in_place, whole_number


def wants_again(request: HttpRequest) -> bool:
    """Whether what was taken back is wanted again."""
    return "again" in request.POST


def meant(request: HttpRequest) -> int | None:
    """The change that the page's button named, when it was pressed."""
    return whole_number(request.POST.get("redo_of" if wants_again(request) else "undo_of", ""))


def tell_undone(request: HttpRequest, words: str, also_in_place: bool = False) -> None:
    """Say what was done, if anything was; in place a page may show it well enough itself."""
    if words and (also_in_place or not in_place(request)):
        done = "Done again" if wants_again(request) else "Taken back"
        messages.info(request, f"{done}: {words}.")
