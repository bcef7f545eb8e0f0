"""Cues as they are ordered, by page, line or file: with names or ids, checked before they count."""

import json
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any, get_args

from kettle_core.errors import RigError, TakeError
from kettle_core.program.cues import Cue, ToScene
from kettle_core.program.replay import Following
from kettle_core.rig.rig import Rig
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.take.cues import CUE, LONGEST_LINE, MOST_CUES

WHATS = tuple(kind.do for kind in get_args(Cue))


def order_cue(rig: Rig, what: str, at_ns: int, values: Mapping[str, Any]) -> Cue:
    """A cue of a rig, of what somebody wants.

    Parameters
    ----------
    rig : whose scenes and inputs are named, by name or id
    what : one of `WHATS`
    at_ns : record time
    values : the cue's fields

    Raises
    ------
    RigError
        If there is no such cue, scene or input, or a field is wrong; `field` says which.
    """
    if what not in WHATS:
        raise RigError(f"There is no cue “{what}”. Cues: {', '.join(WHATS)}.", "what")
    fields = dict(values)
    if "scene" in fields:
        fields["scene"] = _id_of("scene", fields["scene"], rig.scenes)
    if "input" in fields:
        fields["input"] = _id_of("input", fields["input"], rig.inputs)
    try:
        return CUE.read(json.dumps({**fields, "do": what, "at_ns": at_ns}).encode())
    except TakeError as error:
        raise RigError(f"The cue “{what}” can't be followed: {error}", "what") from error


def _id_of(kind: str, wanted: object, known: Iterable[Any]) -> str:
    """The id of a scene or input by its id or name; a name is found whatever its case."""
    there = list(known)
    for one in there:
        if wanted == one.id:
            return str(one.id)
    fits = [x for x in there if str(wanted).casefold() == x.name.casefold()]
    if len(fits) == 1:
        return str(fits[0].id)
    if fits:
        raise RigError(f"Several are called “{wanted}”. Use the id: {_listed(fits)}.", kind)
    names = ", ".join(f"“{x.name}”" for x in there)
    raise RigError(f"The rig has no {kind} “{wanted}”. It has {names}.", kind)


def _listed(found: Iterable[Any]) -> str:
    return ", ".join(x.id for x in found)


def read_cue_file(path: Path, rig: Rig, scene: str = "") -> tuple[Cue, ...]:
    """The cues of a take that is recorded by a file, the scene it begins with first.

    Each line is an object with `at_s` (record time, pauses included), `what` and the cue's
    fields. Cues are followed in the order of their times; one that can't be is an error here,
    not in the take.

    Raises
    ------
    RigError
        If the file can't be read, or a line is none or can't be followed; says which line.
    """
    try:
        with path.open("rb") as file:
            text = file.read(MOST_CUES * LONGEST_LINE)
    except OSError as error:
        raise RigError(f"The cues {path} cannot be read: {error.strerror}.") from error
    found = []
    for number, line in enumerate(text.splitlines(), 1):
        if line.strip():
            try:
                found.append((number, _line(rig, line)))
            except RigError as error:
                raise RigError(f"Line {number} of {path}: {error}", error.field) from error
    following = Following.begin(rig)
    first = first_cue(rig, scene)
    following.follow(first)
    for number, cue in sorted(found, key=lambda row: row[1].at_ns):
        try:
            following.follow(cue)
        except RigError as error:
            raise RigError(f"Line {number} of {path}: {error}", error.field) from error
    return (first, *sorted((cue for _, cue in found), key=lambda cue: cue.at_ns))


def first_cue(rig: Rig, scene: str = "") -> ToScene:
    """The scene that a take begins with, by name or id; the rig's choice without one."""
    return ToScene(0, _id_of("scene", scene, rig.scenes) if scene else rig.default_scene.id)


def _line(rig: Rig, line: bytes) -> Cue:
    try:
        values = json.loads(line)
        at_s, what = values.pop("at_s"), values.pop("what")
    except (ValueError, RecursionError) as error:
        raise RigError(f"This is no JSON: {error}.") from error
    except (AttributeError, TypeError) as error:
        raise RigError('A cue is an object such as {"at_s": 5.0, "what": "pause"}.') from error
    except KeyError as error:
        raise RigError(f"“{error.args[0]}” is missing.", str(error.args[0])) from error
    if isinstance(at_s, bool) or not isinstance(at_s, int | float) or not 0 <= at_s < 1e6:
        raise RigError(f"“at_s” is a number of seconds from 0 on, got {at_s!r}.", "at_s")
    return order_cue(rig, str(what), round(at_s * NS_PER_S), values)
