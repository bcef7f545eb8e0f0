"""The patch sheet as a page, with what was wrong in it."""

from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from kettle_web.frame.engine import status_or_message
from kettle_web.frame.history import history
from kettle_web.frame.selectors import level_strip
from kettle_web.models import Rig
from kettle_web.rigs.selectors import rig_costs
from kettle_web.rigs.sheet import patch_sheet


def patch_sheet_page(
    request: HttpRequest,
    rig: Rig,
    wrong: dict[str, str] | None = None,
) -> HttpResponse:
    """The patch sheet with what was wrong in a row: its input, text, error."""
    values = rig.values
    context: dict[str, Any] = {
        "rig": rig,
        "values": values,
        "page": "inputs",
        "strip": level_strip(),
        "costs": rig_costs(rig),
        "history": history(rig),
        "here": rig.get_absolute_url(),
        **patch_sheet(values),
    }
    context["wrong"] = wrong
    context["engine"] = status_or_message()
    status = 400 if wrong else 200
    return render(request, "rigs/patch_sheet.html", context, status=status)
