"""What a request says of itself: whether a script asks, in place, and what the page had seen."""

from typing import Any

from django import forms
from django.http import HttpRequest, QueryDict

# Numbers of rows have fewer.
MOST_DIGITS = 19


def wants_json(request: HttpRequest) -> bool:
    """Whether a script asks for plain data."""
    return request.headers.get("Accept", "").startswith("application/json")


def in_place(request: HttpRequest) -> bool:
    """Whether a page's script will take over parts of the answer."""
    return "Kettle-In-Place" in request.headers


def whole_number(text: str) -> int | None:
    """A number of rows or revisions as pages send it; None for what none of them sends."""
    return int(text) if text.isascii() and text.isdigit() and len(text) < MOST_DIGITS else None


def seen(request: HttpRequest) -> int | None:
    """The revision that the page showed when something was changed on it."""
    return whole_number(request.headers.get("Kettle-Seen") or request.POST.get("seen", ""))


def wanted_place(post: QueryDict, here: int) -> int:
    """Where something in an order is wanted: one further, or at a number. Raises ValueError."""
    by = {"up": -1, "left": -1, "down": 1, "right": 1}.get(post.get("move", ""))
    return here + by if by else int(post.get("place", "")[:9])


class WrongFieldError(Exception):
    """A field is wrong, so a change was not made: the bound forms, by their parts, say which."""

    def __init__(self, **wrong: forms.Form) -> None:
        super().__init__()
        self.wrong = wrong


def given(post: QueryDict, fresh: forms.Form) -> QueryDict:
    """What was sent of a form, with the newest values where nobody touched a field.

    Another page may have changed them since this one was shown.

    Parameters
    ----------
    post : `untouched` names the fields that are as they were shown
    fresh : the form with its newest values, unbound
    """
    data: Any = post.copy()
    for name in post.get("untouched", "").split():
        if name not in fresh.fields:
            continue
        value, widget = fresh[name].value(), fresh.fields[name].widget
        if isinstance(widget, forms.CheckboxInput):
            data.pop(name, None)
            if value:
                data[name] = "on"
        elif not widget.needs_multipart_form:
            data[name] = "" if value is None else str(value)
    return data
