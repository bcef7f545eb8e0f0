"""What the forms of a tutorial's page change: a running order in, a running order out."""

from django.http import QueryDict

from kettle_core.errors import RigError
from kettle_core.program.running_order import (
    RunningOrder,
    moved_step,
    with_new_step,
    with_outline,
    with_step,
    without_step,
)
from kettle_web.frame.asking import WrongFieldError, given, wanted_place
from kettle_web.frame.editing import Made
from kettle_web.tutorials.forms import OutlineForm, StepForm

Changed = Made[RunningOrder]
BUTTONS = ("up", "down", "delete")


def change(order: RunningOrder, post: QueryDict, scenes: list[str]) -> Changed:
    """The change that a form asks for. Raises RigError, WrongFieldError."""
    parts = {"step": _step, "new": _new, "delete": _delete, "move": _move, "outline": _outline}
    part, pressed = post.get("part", ""), next((b for b in BUTTONS if b in post), "")
    if pressed:
        # A button of the list says which step it is of.
        post = post.copy()
        post["step"], post["move"] = post.get(pressed, ""), pressed
        part = "delete" if pressed == "delete" else "move"
    if part not in parts:
        raise RigError("This can't be changed here. Reload the page.", "part")
    return parts[part](order, post, scenes)


def _step(order: RunningOrder, post: QueryDict, scenes: list[str]) -> Changed:
    known = order.step(post.get("step", ""))
    form = StepForm(given(post, StepForm(step=known, scenes=scenes)), step=known, scenes=scenes)
    if not form.is_valid():
        raise WrongFieldError(**{f"step:{known.id}": form})
    return with_step(order, form.step(known.id)), f"{known.title} changed"


def _new(order: RunningOrder, post: QueryDict, scenes: list[str]) -> Changed:
    form = StepForm(post, scenes=scenes)
    if not form.is_valid():
        raise WrongFieldError(new=form)
    step = form.step("new")
    return with_new_step(order, step), f"{step.title} added"


def _delete(order: RunningOrder, post: QueryDict, _: list[str]) -> Changed:
    step = order.step(post.get("step", ""))
    return without_step(order, step.id), f"{step.title} deleted"


def _move(order: RunningOrder, post: QueryDict, _: list[str]) -> Changed:
    step = order.step(post.get("step", ""))
    try:
        place = wanted_place(post, order.steps.index(step))
    except ValueError as error:
        raise RigError("This step can't be moved there. Reload the page.", "step") from error
    return moved_step(order, step.id, place), f"{step.title} moved"


def _outline(order: RunningOrder, post: QueryDict, _: list[str]) -> Changed:
    form = OutlineForm(post)
    if not form.is_valid():
        raise WrongFieldError(outline=form)
    after = post.get("how", "") == "after"
    try:
        made = with_outline(order, form.cleaned_data["outline"], after)
    except RigError as error:
        form.add_error("outline", str(error))
        raise WrongFieldError(outline=form) from error
    added = len(made.steps) - (len(order.steps) if after else 0)
    words = f"{added} steps added" if after else f"{added} steps in place of {len(order.steps)}"
    return made, words
