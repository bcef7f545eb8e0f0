"""What each form and button of the Format page changes in the rig."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from django.http import QueryDict

from kettle_core.errors import RigError
from kettle_core.rig.changes import with_format
from kettle_core.rig.format import Format, TrackFormat
from kettle_core.rig.purposes import PURPOSES
from kettle_core.rig.rig import Rig
from kettle_media.roots import root_paths
from kettle_web.format.forms import FilesForm, PictureForm, ProgramForm, TrackForm
from kettle_web.frame.asking import WrongFieldError, given

Made = tuple[Rig, str]


@dataclass(frozen=True)
class Asked:
    """What came with a change; `takes` is where takes lie in the data folder."""

    post: QueryDict
    takes: Any


def change(values: Rig, asked: Asked) -> Made:
    """The rig with what a form or button of the page says, and words for it.

    Raises
    ------
    WrongFieldError
        With the form, where a field is wrong.
    RigError
        Where it can't be done.
    """
    part = asked.post.get("part", "")
    if part not in _CHANGES:
        raise RigError("This can't be set on the Format page. Reload the page.", "part")
    return _CHANGES[part](values, asked)


def _picture(values: Rig, asked: Asked) -> Made:
    form = PictureForm(given(asked.post, PictureForm.of(values.format)), auto_id="picture-%s")
    if not form.is_valid():
        raise WrongFieldError(picture=form)
    return with_format(values, form.to_format(values.format)), "format changed"


def _size(values: Rig, asked: Asked) -> Made:
    """A standard size, or one that is proposed."""
    width, _, height = asked.post.get("size", "").partition("x")
    form = PictureForm(
        {**PictureForm.of(values.format).initial, "frame_width": width, "frame_height": height},
        auto_id="picture-%s",
    )
    if not form.is_valid():
        raise WrongFieldError(picture=form)
    made = with_format(values, form.to_format(values.format))
    return made, f"frame size {width} × {height} px"


def _tracks(values: Rig, asked: Asked) -> Made:
    """The tracks of screens or of webcams, or those of one input."""
    row = asked.post.get("row", "")
    before = track_of_row(values, row)
    form = TrackForm(given(asked.post, TrackForm.of(before, row)), auto_id=f"{row}-%s")
    if not form.is_valid():
        raise WrongFieldError(**{f"track:{row}": form})
    return _with_track(values, row, form.to_track()), f"{row_name(values, row)}: track's format"


def _own(values: Rig, asked: Asked) -> Made:
    """An input's track by its own format, or by that of its kind."""
    item = values.input(asked.post.get("row", ""))
    own = asked.post.get("own") == "on"
    changed = replace(item, track=values.track_of(item) if own else None)
    inputs = tuple(changed if i.id == item.id else i for i in values.inputs)
    words = "its own format" if own else "format of its kind"
    return replace(values, inputs=inputs), f"{item.name}: {words}"


def _program(values: Rig, asked: Asked) -> Made:
    before = values.format.program
    form = ProgramForm(given(asked.post, ProgramForm.of(before)), auto_id="program-%s")
    if not form.is_valid():
        raise WrongFieldError(program=form)
    made = replace(values.format, program=form.to_program())
    return replace(values, format=made), "program's format changed"


def _files(values: Rig, asked: Asked) -> Made:
    before = values.format.files
    choices = root_choices(asked.takes, before.root)
    post = given(asked.post, FilesForm.of(before, choices))
    form = FilesForm.of(before, choices, post)
    if not form.is_valid():
        raise WrongFieldError(files=form)
    made = replace(values.format, files=form.to_files())
    return replace(values, format=made), "files changed"


def _purpose(values: Rig, asked: Asked) -> Made:
    """A starting point."""
    purpose = next((p for p in PURPOSES if p.id == asked.post.get("purpose")), None)
    if purpose is None:
        raise RigError("There is no such starting point. Reload the page.", "purpose")
    return with_format(values, purpose.applied(values.format)), f"starting point: {purpose.name}"


_CHANGES: dict[str, Callable[[Rig, Asked], Made]] = {
    "picture": _picture,
    "size": _size,
    "track": _tracks,
    "own": _own,
    "program": _program,
    "files": _files,
    "purpose": _purpose,
}

KINDS = ("screens", "webcams")


def track_of_row(values: Rig, row: str) -> TrackFormat:
    """The format of a row of the page: of a kind, or of an input. Raises RigError."""
    if row in KINDS:
        found: TrackFormat = getattr(values.format, row)
        return found
    return values.track_of(values.input(row))


def row_name(values: Rig, row: str) -> str:
    """What a row is called."""
    return {"screens": "Screens", "webcams": "Webcams"}.get(row) or values.input(row).name


def _with_track(values: Rig, row: str, track: TrackFormat) -> Rig:
    if row in KINDS:
        of_kind: dict[str, Any] = {row: track}
        made: Format = replace(values.format, **of_kind)
        return replace(values, format=made)
    inputs = tuple(replace(i, track=track) if i.id == row else i for i in values.inputs)
    return replace(values, inputs=inputs)


def with_track_of(values: Rig, input_id: str, track: TrackFormat) -> Rig:
    """The rig with an input's track so: by its kind, where no other input is of it."""
    item = values.input(input_id)
    kind = "screens" if item.is_screen else "webcams"
    like = [i for i in values.inputs if i.has_track and i.is_picture and not i.track]
    alone = [i.id for i in like if i.is_screen == item.is_screen] == [input_id]
    return _with_track(values, kind if alone else input_id, track)


def root_choices(takes: Any, chosen: str) -> list[tuple[str, str]]:
    """Allowed folders; one that is chosen and not allowed here any more is shown as that."""
    found = [(v, v or "data folder") for v in root_paths(takes)]
    if chosen and chosen not in dict(found):
        found.append((chosen, f"{chosen} (not allowed here)"))
    return found
