"""The one place where our errors become messages and status codes."""

from collections.abc import Callable

from django.contrib import messages
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils.http import url_has_allowed_host_and_scheme

from kettle_core.errors import EngineError, KettleError
from kettle_web.frame.asking import in_place, wants_json


class TellErrorsMiddleware:
    """A KettleError in a view: JSON for scripts, else a message on the page it came from."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self._get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """Go on to the view."""
        response = self._get_response(request)
        if response.status_code == 405 and request.method == "GET" and not wants_json(request):
            # Without a script a refused form stands at the address that takes it.
            return redirect(_page_of_rig(request) or "start")
        if response.get("Content-Type", "").startswith("text/html"):
            # Who goes back sees what is, not what was.
            response.headers.setdefault("Cache-Control", "no-store")
        return response

    def process_exception(self, request: HttpRequest, error: Exception) -> HttpResponse | None:
        """Answer instead of the view."""
        if not isinstance(error, KettleError):
            return None
        status = 503 if isinstance(error, EngineError) else 400
        if wants_json(request) or in_place(request):
            field = getattr(error, "field", "")
            return JsonResponse({"error": str(error), "field": field}, status=status)
        page = _came_from(request)
        if request.method == "POST" and page:
            messages.error(request, str(error))
            return redirect(page)
        return render(request, "frame/sentence.html", {"sentence": str(error)}, status=status)


def _came_from(request: HttpRequest) -> str:
    """The page of ours whose form was sent, or else that of its rig."""
    page = request.headers.get("Referer", "")
    if url_has_allowed_host_and_scheme(page, {request.get_host()}):
        return page
    return _page_of_rig(request)


def _page_of_rig(request: HttpRequest) -> str:
    match = request.resolver_match
    slug = match.kwargs.get("slug", "") if match else ""
    return reverse("patch-sheet", args=[slug]) if slug else ""
