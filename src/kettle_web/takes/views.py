"""Pages of takes and their files."""

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from kettle_media.take.folder import TakeFolder
from kettle_web.models import Rig, Take
from kettle_web.rigs.start import page_of_takes, start_page
from kettle_web.takes import selectors, services
from kettle_web.takes.files import DOWNLOADS, serve_file, take_files


@require_safe
def start(request: HttpRequest) -> HttpResponse:
    """Rigs and takes."""
    return start_page(request)


@require_safe
def takes(request: HttpRequest, slug: str) -> HttpResponse:
    """The rig's takes."""
    rig = get_object_or_404(Rig, slug=slug)
    found = page_of_takes(rig.takes.filter(deleted_at=None), request)
    return render(request, "takes/takes.html", {"rig": rig, "page": "takes", "takes": found})


@require_safe
def take(request: HttpRequest, pk: int) -> HttpResponse:
    """One take: play, sync, download."""
    found = get_object_or_404(Take.objects.select_related("rig", "program_job"), pk=pk)
    files = take_files(found)
    context = {
        "rig": found.rig,
        "page": "takes",
        "take": found,
        "files": files,
        "together": selectors.played_together(files),
        "job": found.program_job,
        "words": selectors.program_words(found),
        "sync": selectors.sync_report(found),
    }
    return render(request, "takes/take.html", context)


@require_POST
def take_compose(request: HttpRequest, pk: int) -> HttpResponse:
    """Compose again after a failure."""
    found = get_object_or_404(Take.objects.select_related("program_job"), pk=pk)
    if not found.has_program:
        services.order_program(take=found)
    return redirect(found)


@require_POST
def delete(request: HttpRequest, pk: int) -> HttpResponse:
    """Take a take out of sight; the start page brings it back. Its files stay."""
    found = get_object_or_404(Take, pk=pk)
    services.delete_take(take=found)
    messages.info(
        request, f"“{found.name}” was deleted. Its files stay, so it can be brought back."
    )
    return redirect("takes", found.rig.slug) if found.rig else redirect("start")


@require_POST
def bring_back(request: HttpRequest, pk: int) -> HttpResponse:
    """A deleted take as it was."""
    found = get_object_or_404(Take.with_deleted, pk=pk)
    services.bring_back_take(take=found)
    messages.success(request, f"“{found.name}” is back.")
    return redirect(found)


@require_safe
def take_file(request: HttpRequest, pk: int, kind: str, name: str) -> HttpResponse:
    """One of the take's own files, by name; never a path from outside."""
    found = get_object_or_404(Take, pk=pk)
    return serve_file(request, TakeFolder(found.path), found, kind, name, kind in DOWNLOADS)
