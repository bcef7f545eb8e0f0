"""The one place where our errors become messages and status codes."""

from collections.abc import Callable

from django.contrib import messages
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import redirect, render

from kettle_core.errors import EngineError, KettleError
from kettle_web.frame.asking import in_place, wants_json

BACK_TO = {
    "record-start": "record",
    "record-stop": "record",
    "record-start-over": "record",
    "record-give-up": "record",
    "record-cue": "record",
    "record-tutorial": "record",
    "record-first-scene": "record",
    "save-scene": "scenes",
    "new-scene": "scenes",
    "order-scenes": "scenes",
    "delete-scene": "scenes",
    "play-change": "scenes",
    "pick-colour": "scenes",
    "save-sound": "sound",
    "listen-sound": "sound",
    "save-stems": "stems",
}


class TellErrorsMiddleware:
    """A KettleError in a view: JSON for scripts, else a message on the page it came from."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self._get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """Go on to the view."""
        response = self._get_response(request)
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
        match = request.resolver_match
        if request.method == "POST" and match and "slug" in match.kwargs:
            messages.error(request, str(error))
            return redirect(BACK_TO.get(match.url_name or "", "patch-sheet"), match.kwargs["slug"])
        return render(request, "frame/sentence.html", {"sentence": str(error)}, status=status)
