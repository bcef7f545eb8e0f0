"""What is done with takes of the library: forms of the start page."""

from collections.abc import Callable
from datetime import datetime

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils.http import url_has_allowed_host_and_scheme
from django.views.decorators.http import require_POST, require_safe

from kettle_core.errors import TakeError
from kettle_web.frame.asking import whole_number
from kettle_web.frame.undoing import meant, tell_undone, wants_again
from kettle_web.library import services
from kettle_web.library.bin import bin_page, bring_back, empty_bin
from kettle_web.library.folders import delete_folder, new_folder
from kettle_web.library.forms import NameForm, TagForm, TakesForm
from kettle_web.models import Folder, Take, Tutorial


@require_POST
def arrange(request: HttpRequest) -> HttpResponse:
    """Do something with the takes that are ticked."""
    form = TakesForm(request.POST)
    if not form.is_valid():
        raise TakeError(str(form.errors["take"][0]))
    takes = list(form.cleaned_data["take"])
    do = request.POST.get("do", "")
    if do not in DOES:
        raise TakeError("This can't be done here. Reload the page.")
    DOES[do](request, takes)
    return _back(request)


def _move(request: HttpRequest, takes: list[Take]) -> None:
    services.move_to_folder(takes=takes, folder=_folder(request.POST.get("folder", "")))


def _to_tutorial(request: HttpRequest, takes: list[Take]) -> None:
    chosen = whole_number(request.POST.get("to_tutorial", "")) or 0
    found = Tutorial.objects.filter(pk=chosen).first()
    if found is None:
        raise TakeError("Choose the tutorial that the takes go to.")
    services.move_to_tutorial(takes=takes, tutorial=found)


def _tag(request: HttpRequest, takes: list[Take]) -> None:
    services.tag_takes(takes=takes, tag=_tag_of(request))


def _untag(request: HttpRequest, takes: list[Take]) -> None:
    services.tag_takes(takes=takes, tag=_tag_of(request), off=True)


def _tag_of(request: HttpRequest) -> str:
    form = TagForm(request.POST)
    if not form.is_valid():
        raise TakeError(str(form.errors["tag"][0]))
    return str(form.cleaned_data["tag"])


def _delete(request: HttpRequest, takes: list[Take]) -> None:
    services.delete_takes(takes=takes)
    told = services.counted(takes)
    lie, them = ("lies", "it") if len(takes) == 1 else ("lie", "them")
    messages.info(
        request, f"{told} {lie} in the bin until that is emptied; Undo brings {them} back."
    )


DOES: dict[str, Callable[[HttpRequest, list[Take]], None]] = {
    "move": _move,
    "tutorial": _to_tutorial,
    "tag": _tag,
    "untag": _untag,
    "delete": _delete,
}


@require_POST
def rename(request: HttpRequest, pk: int) -> HttpResponse:
    """Call a take something else."""
    found = get_object_or_404(Take.objects.select_related("tutorial", "rig"), pk=pk)
    services.rename_take(take=found, name=_name(request))
    return _back(request)


@require_POST
def duplicate(request: HttpRequest, pk: int) -> HttpResponse:
    """A second take of the same recording."""
    found = get_object_or_404(Take.objects.select_related("tutorial", "rig"), pk=pk)
    made = services.duplicate_take(take=found)
    messages.success(request, f"“{made.name}” can be changed by itself now.")
    return redirect(made)


@require_POST
def undo(request: HttpRequest) -> HttpResponse:
    """Take back what was done last in the library, or do it again."""
    words = services.undo(again=wants_again(request), of=meant(request))
    tell_undone(request, words, also_in_place=True)
    return _back(request)


@require_POST
def folders(request: HttpRequest) -> HttpResponse:
    """A new folder, or one taken away."""
    if "delete" in request.POST:
        found = _folder(request.POST["delete"])
        if found:
            delete_folder(folder=found)
            messages.info(
                request, f"The folder “{found.name}” lies in the bin; its takes are still here."
            )
        return redirect("start")
    parent = _folder(request.POST.get("parent", ""))
    made = new_folder(name=_name(request), parent=parent)
    return redirect(f"{reverse('start')}?in={made.pk}")


@require_safe
def bin_(request: HttpRequest) -> HttpResponse:
    """What was deleted."""
    return render(request, "library/bin.html", {"page": "", "bin": bin_page(request.GET)})


@require_POST
def back(request: HttpRequest) -> HttpResponse:
    """Something out of the bin."""
    name = bring_back(key=request.POST.get("key", ""))
    messages.success(request, f"“{name}” is back.")
    return _back(request)


@require_POST
def empty(request: HttpRequest) -> HttpResponse:
    """Delete for good what the page showed."""
    try:
        until = datetime.fromisoformat(request.POST.get("until", ""))
        told = empty_bin(until=until)
    except (ValueError, TypeError) as error:
        raise TakeError("The bin can't be emptied so. Reload the page.") from error
    if told:
        messages.info(request, f"{told} went for good.")
    return redirect("bin")


def _name(request: HttpRequest) -> str:
    form = NameForm(request.POST)
    if not form.is_valid():
        raise TakeError(str(form.errors["name"][0]))
    return str(form.cleaned_data["name"])


def _folder(text: str) -> Folder | None:
    if not text:
        return None
    found = Folder.objects.filter(pk=whole_number(text) or 0).first()
    if found is None:
        raise TakeError("This folder is gone meanwhile. Reload the page.")
    return found


def _back(request: HttpRequest) -> HttpResponse:
    """To the page that asked, as it was."""
    target = request.POST.get("to", "")
    if url_has_allowed_host_and_scheme(target, allowed_hosts=None):
        return redirect(target)
    return redirect("start")
