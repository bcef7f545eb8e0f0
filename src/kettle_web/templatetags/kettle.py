"""Numbers as people read them, with units; fields in our look."""

from datetime import datetime
from fractions import Fraction
from pathlib import Path
from typing import Any

from django import template
from django.forms import BoundField
from django.forms.widgets import CheckboxInput, RadioSelect, Select
from django.template import Context
from django.utils.html import escape, format_html
from django.utils.safestring import SafeString, mark_safe
from django.utils.timezone import localtime

from kettle_core.rig.devices import SOUND_KINDS
from kettle_core.rig.rig import Rig
from kettle_web.frame import selectors
from kettle_web.jobs.selectors import count_active, in_their_turn
from kettle_web.models import Job
from kettle_web.models import Rig as KeptRig
from kettle_web.rigs.path import path_steps as steps_of
from kettle_web.rigs.sheet import Crosspoint

register = template.Library()
# Asked once for a page.
IN_TURN = "jobs_in_turn"


@register.inclusion_tag("frame/_steps.html", takes_context=True)
def path_steps(context: Context, rig: KeptRig, page: str) -> dict[str, Any]:
    """The order of work, at the top of a rig's pages, with the tutorial that the page is about."""
    about = context.get("tutorial") or getattr(context.get("take"), "tutorial", None)
    return {"steps": steps_of(rig, about), "page": page}


@register.simple_tag
def crosspoint(point: Crosspoint, number: str = "") -> SafeString:
    """The button of a crosspoint, as markup: a large sheet has a thousand of them."""
    if not point.what:
        return SafeString("")
    on = "on" if point.on else "off"
    # Ids are of a-z, 0-9 and -; of what is shown only the label is the user's.
    return mark_safe(  # noqa: S308
        '<button type="submit" form="crosspoints" name="cross" class="cross"'
        f' id="x-{point.input_id}-{point.scene_id}-{point.what}" value="{point.wanted}"'
        f' aria-pressed="{"true" if point.on else "false"}">'
        f'<svg viewBox="0 0 26 22" aria-hidden="true"><use href="#shape-{point.what}-{on}" /></svg>'
        f'<span class="visually-hidden">{escape(point.label)}</span>'
        f"{f'<span>{number}</span>' if number else ''}</button>"
    )


@register.simple_tag(takes_context=True)
def querystring_of(context: Context, name: str, value: object) -> str:
    """The page's address with one part of it otherwise."""
    asked = context["request"].GET.copy()
    asked[name] = str(value)
    return f"?{asked.urlencode()}"


@register.simple_tag(takes_context=True)
def can_go_first(context: Context, job: Job) -> bool:
    """Whether a job waits, and another one of its queue would be taken before it."""
    if job.state != Job.State.WAITING:
        return False
    request = context["request"]
    if not hasattr(request, IN_TURN):
        setattr(request, IN_TURN, in_their_turn())
    return job.pk not in getattr(request, IN_TURN)


@register.inclusion_tag("jobs/_count.html")
def jobs_count() -> dict[str, Any]:
    """How much is done in the background, at the top of every page."""
    return {"count": count_active()}


@register.simple_tag
def machine() -> str:
    """Room left on the disk and load, in two lines."""
    state = selectors.machine()
    room = megabytes(state["disk_free_bytes"])
    return f"{room} of room\nload {state['load']} of {state['cores']}"


@register.filter
def megabytes(size_bytes: float | None) -> str:
    """Bytes in MB, from 10 GB on in GB."""
    if size_bytes is None:
        return "–"
    if size_bytes >= 1e10:
        return f"{size_bytes / 1e9:.1f} GB"
    return f"{size_bytes / 1e6:.1f} MB" if size_bytes < 1e8 else f"{size_bytes / 1e6:.0f} MB"


@register.filter
def moment(when: datetime | None) -> SafeString:
    """A time in the machine's own zone, which a script puts into that of the browser."""
    if when is None:
        return SafeString("–")
    here = localtime(when)
    words = f"{here.day} {here:%B %Y, %H:%M}"
    return format_html('<time datetime="{}">{}</time>', when.isoformat(), words)


@register.filter
def clock(seconds: float | None) -> str:
    """Seconds as m:ss or h:mm:ss."""
    if seconds is None:
        return "–"
    whole = round(seconds)
    hours, rest = divmod(whole, 3600)
    minutes = f"{rest // 60:02d}" if hours else str(rest // 60)
    return (f"{hours}:" if hours else "") + f"{minutes}:{rest % 60:02d}"


@register.filter
def hours(minutes: float) -> str:
    """Minutes as h and min."""
    return f"{int(minutes // 60)} h {int(minutes % 60):02d} min"


@register.filter
def fps(rate: Fraction) -> str:
    """A frame rate with its unit."""
    return f"{float(rate):.5g} fps"


@register.filter
def signed(value: float, digits: int) -> str:
    """A number that always has its sign."""
    return f"{value:+.{digits}f}".replace("-", "−")


@register.filter
def percent(share: float) -> str:
    """A share of 1 in whole %."""
    return f"{100 * share:.0f} %"


@register.filter
def minus(value: float, digits: int) -> str:
    """A number with a true minus sign where it is below 0."""
    return f"{value:.{digits}f}".replace("-", "−")


@register.filter
def rig_line(values: Rig) -> str:
    """A rig in one line."""
    tracks = sum(1 for i in values.inputs if i.has_track)
    size = f"{values.format.frame_width} × {values.format.frame_height} px"
    return f"{len(values.inputs)} inputs, {tracks} tracks · {size} · {fps(values.format.fps)}"


@register.filter
def is_check(bound: BoundField) -> bool:
    """Whether a field is a box to tick."""
    return isinstance(bound.field.widget, CheckboxInput)


@register.filter
def is_choice_list(bound: BoundField) -> bool:
    """Whether a field is a list of which one is chosen."""
    return isinstance(bound.field.widget, RadioSelect)


@register.filter
def dictkey(known: dict[str, str], name: str) -> str:
    """What a name with a hyphen stands for, which a template can't ask for by a dot."""
    return known.get(name, "")


@register.filter
def unlocal(value: float) -> str:
    """A number for a field of a form, never with a decimal comma."""
    return f"{value:g}"


@register.filter
def field(bound: BoundField) -> SafeString:
    """A form field with Bootstrap's class, told to be wrong when it is."""
    widget = bound.field.widget
    name = "form-control"
    if isinstance(widget, CheckboxInput):
        name = "form-check-input"
    elif isinstance(widget, Select) and not isinstance(widget, RadioSelect):
        name = "form-select"
    elif widget.attrs.get("type") == "color":
        name = "form-control form-control-color"
    attributes: dict[str, str | bool] = {"class": name}
    if bound.errors:
        attributes |= {"aria-invalid": "true", "class": f"{attributes['class']} is-invalid"}
    return bound.as_widget(attrs=attributes)


@register.filter
def hidden(bound: BoundField) -> SafeString:
    """A form field that keeps its value and is not shown."""
    form = bound.field.widget.attrs.get("form")
    return bound.as_hidden(attrs={"form": form} if form else None)


@register.filter
def mbit(kbps: float) -> str:
    """kbit/s in Mbit/s, with two digits that matter."""
    value = kbps / 1000
    return f"{value:.0f}" if value >= 100 else f"{value:.1f}" if value >= 10 else f"{value:.2f}"


@register.filter
def mb_a_minute(kbps: float) -> str:
    """kbit/s in MB a minute."""
    value = kbps * 60 / 8000
    return f"{value:.0f}" if value >= 10 else f"{value:.1f}"


@register.filter
def unit(attributes: dict[str, str]) -> str:
    """The unit that stands behind a field, "" for none."""
    return attributes.get("data-unit", "")


@register.filter
def program_size(path: Path) -> int | None:
    """Size of the composed program, if it is there."""
    program = path / "program.mp4"
    return program.stat().st_size if program.exists() else None


@register.filter
def track_shape(kind: str) -> str:
    """The small shape of a track: what is seen a square, what is heard a bar."""
    return "heard" if kind in SOUND_KINDS else "seen"
