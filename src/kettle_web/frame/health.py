"""/health/: whether web, database, engine and workers answer; for people and for watchers."""

import shutil
from datetime import timedelta
from typing import Any

from django.conf import settings
from django.db import DatabaseError
from django.http import HttpRequest, JsonResponse
from django.utils import timezone
from django.views.decorators.http import require_safe

from kettle_core.errors import EngineError
from kettle_web.frame.engine import engine
from kettle_web.models import Worker

SILENT_FOR = timedelta(seconds=30)
LEAST_BYTES = 100_000_000


@require_safe
def health(_request: HttpRequest) -> JsonResponse:
    """200 where all of it answers, else 503; each part says how it is."""
    parts: dict[str, Any] = {"web": "answers"}
    try:
        parts["engine"] = engine().ask("status")["state"]
    except EngineError as error:
        parts["engine"] = f"fault: {error}"
    try:
        seen = dict(Worker.objects.values_list("queue", "seen_at"))
        parts["database"] = "answers"
    except DatabaseError as error:
        seen, parts["database"] = {}, f"fault: {error}"
    for queue in ("soon", "long"):
        alive = queue in seen and timezone.now() - seen[queue] < SILENT_FOR
        parts[f"worker {queue}"] = "works" if alive else "fault: it has not been heard of"
    free = shutil.disk_usage(settings.DATA).free
    parts["disk"] = f"{free / 1e9:.1f} GB free" if free > LEAST_BYTES else "fault: full"
    well = not any(str(said).startswith("fault") for said in parts.values())
    return JsonResponse({"well": well, **parts}, status=200 if well else 503)
