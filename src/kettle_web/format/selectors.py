"""What the Format page shows."""

import shutil
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from math import ceil, floor, log10
from typing import Any

from django.conf import settings
from django.http import QueryDict
from django.urls import reverse
from django.utils import timezone

from kettle_core.errors import KettleError
from kettle_core.rig import estimate
from kettle_core.rig.devices import Mode
from kettle_core.rig.estimate import Cost, Measured
from kettle_core.rig.file_names import file_name
from kettle_core.rig.format import FRAME_SIZES
from kettle_core.rig.format_findings import format_findings
from kettle_core.rig.purposes import PURPOSES
from kettle_core.rig.rig import Input
from kettle_core.rig.rig import Rig as RigValues
from kettle_core.rig.trial import in_words, speeds_ms
from kettle_engine.trial.kept import (
    KeptInput,
    KeptTrial,
    known_bitrates,
    out_of_date,
    read_trial,
    trial_folder,
)
from kettle_media.naming import name_fields
from kettle_media.roots import Root, roots
from kettle_web.format.changes import KINDS, root_choices, row_name, track_of_row
from kettle_web.format.forms import (
    SPEED_WORDS,
    CostForm,
    FilesForm,
    PictureForm,
    ProgramForm,
    TrackForm,
)
from kettle_web.frame.history import history
from kettle_web.jobs.selectors import newest_open
from kettle_web.models import FolderSpeed, Rig, Tutorial

FIRST_COST = {"minutes": 60, "size_mb": 2000, "line_mbps": 20}
BASIS_WORDS = {
    estimate.ARITHMETIC: "by arithmetic",
    estimate.TRIAL: "by the last trial",
    estimate.TABLE: "by a table",
}
# A disk should take so many times what is written.
FAST_ENOUGH = 2.0
# Drawings are in these units.
WIDE, HIGH = 330.0, 120.0
QUALITY_TICKS = (0.9, 0.98, 0.999, 0.9999)
TICKS = (
    *((100, "0.1"), (200, "0.2"), (500, "0.5"), (1000, "1"), (2000, "2"), (5000, "5")),
    *((10_000, "10"), (20_000, "20"), (50_000, "50"), (100_000, "100")),
)


@dataclass(frozen=True)
class TrackRow:
    """A row of the tracks: a kind, or an input with a format of its own or that of its kind."""

    id: str
    name: str
    form: TrackForm | None
    words: str
    own: bool
    is_input: bool
    cost: Cost | None


def format_page(
    rig: Rig, query: QueryDict, wrong: Mapping[str, Any] | None, tried: RigValues | None
) -> dict[str, Any]:
    """All of the page; with what is `tried` in place of what is kept."""
    values, wrong = tried or rig.values, wrong or {}
    files = values.format.files
    kept = read_trial(trial_folder(settings.DATA, rig.slug))
    trials: Mapping[str, Sequence[Measured]] = known_bitrates(values, kept)
    costs = {c.id: c for c in estimate.track_costs(values, trials)}
    program = estimate.program_cost(values, trials)
    program_form = wrong.get("program") or ProgramForm.of(values.format.program)
    width, height = values.format.frame_size
    program_form.hint(Mode(width, height, values.format.fps))
    return {
        "rig": rig,
        "values": values,
        "page": "format",
        "picture": wrong.get("picture") or PictureForm.of(values.format),
        "sizes": FRAME_SIZES,
        "rows": track_rows(values, costs, wrong),
        "sounds": _sounds(values, costs),
        "program": program_form,
        "files": wrong.get("files")
        or FilesForm.of(files, root_choices(settings.TAKES, files.root)),
        "example": example_name(values),
        "root": chosen_root(values),
        "purposes": PURPOSES,
        "findings": format_findings(values),
        "trial": trial_drawings(values, kept, query),
        "trying": newest_open("trial", trial_subject(rig)),
        "history": history(rig),
        "here": reverse("format", args=[rig.slug]),
        **_facts(values, list(costs.values()), program, query),
    }


def track_rows(
    values: RigValues, costs: Mapping[str, Cost], wrong: Mapping[str, Any]
) -> list[TrackRow]:
    """Both kinds, each followed by its inputs that have a track."""
    found = []
    for kind in KINDS:
        items = [i for i in values.inputs if i.has_track and i.is_picture]
        of_kind = [i for i in items if i.is_screen == (kind == "screens")]
        mode = values.track_mode(of_kind[0]) if of_kind else None
        found.append(_row(values, kind, mode, None, wrong, is_input=False))
        for item in of_kind:
            cost = costs.get(item.id)
            found.append(_row(values, item.id, values.track_mode(item), cost, wrong, True, item))
    return found


def _row(
    values: RigValues,
    row: str,
    mode: Mode | None,
    cost: Cost | None,
    wrong: Mapping[str, Any],
    is_input: bool,
    item: Input | None = None,
) -> TrackRow:
    own = not is_input or bool(item and item.track)
    form = None
    if own:
        form = wrong.get(f"track:{row}") or TrackForm.of(track_of_row(values, row), row)
        if mode:
            form.hint(mode)
    words = mode.in_words() if mode and is_input else ""
    return TrackRow(row, row_name(values, row), form, words, own, is_input, cost)


def _sounds(values: RigValues, costs: Mapping[str, Cost]) -> Cost | None:
    found = [costs[i.id] for i in values.inputs if i.id in costs and not i.is_picture]
    return estimate.together(found) if found else None


def _facts(
    values: RigValues, tracks: list[Cost], program: Cost, query: QueryDict
) -> dict[str, Any]:
    """What follows from the format, for a length, a size and a line."""
    form = CostForm({name: query.get(name, first) for name, first in FIRST_COST.items()})
    asked = {**FIRST_COST, **(form.cleaned_data if form.is_valid() else {})}
    whole = estimate.together(tracks)
    root = chosen_root(values)
    free = root.free_bytes if root and not root.fault else shutil.disk_usage(settings.DATA).free
    seconds = asked["minutes"] * 60.0
    _, _, most = whole.bytes_in(60)
    of_program = program.bytes_in(seconds)
    return {
        "cost_form": form,
        "asked": asked,
        "whole": whole,
        "second_bytes": whole.bytes_in(1)[2],
        "minute_bytes": whole.bytes_in(60),
        "hour_bytes": whole.bytes_in(3600),
        "free_bytes": free,
        "minutes_left": free / most if most else None,
        "program_cost": program,
        "program_minute_bytes": program.bytes_in(60),
        "program_bytes": of_program,
        "longest_s": estimate.longest_s(program, asked["size_mb"] * 1e6),
        "upload_s": [estimate.upload_s(b, asked["line_mbps"]) for b in of_program],
        "basis": basis_words(values, tracks),
        "speed": folder_speed(values, whole),
    }


def basis_words(values: RigValues, tracks: Sequence[Cost]) -> str:
    """Where the figures come from."""
    pictures = [c for c in tracks if values.input(c.id).is_picture]
    sounds = [c for c in tracks if not values.input(c.id).is_picture]
    parts = [
        f"{name} {BASIS_WORDS[estimate.together(costs).basis]}"
        for name, costs in (("pictures", pictures), ("sounds", sounds))
        if costs
    ]
    told = ", ".join(parts).capitalize()
    unsure = any(c.basis == estimate.TABLE for c in pictures)
    return f"{told}; a trial says more." if unsure else f"{told}."


def example_name(values: RigValues) -> str:
    """What the first track of a take that begins now would be called; "" for a wrong pattern."""
    first = next((i.name for i in values.inputs if i.has_track), "")
    fields = name_fields(timezone.localtime(), values.name, 1, Tutorial.UNTITLED, first)
    try:
        return file_name(values.format.files.pattern, fields, lambda _: False)
    except KettleError:
        return ""


def chosen_root(values: RigValues) -> Root | None:
    """The folder that takes are recorded into; None where it is not allowed here."""
    wanted = values.format.files.root
    return next((root for root in roots(settings.TAKES) if root.value == wanted), None)


def speed_subject(root: str) -> str:
    """What the job that measures a folder's speed is about."""
    return f"folder:{root}"


def folder_speed(values: RigValues, whole: Cost) -> dict[str, Any]:
    """What was measured of the chosen folder last, and whether that is fast enough."""
    root = values.format.files.root
    if job := newest_open("folder-speed", speed_subject(root)):
        return {"job": job}
    last = FolderSpeed.objects.filter(root=root).first()
    if last is None:
        return {"job": None}
    enough = last.bytes_per_s > FAST_ENOUGH * whole.high_kbps * 125
    return {"job": None, "bytes_per_s": last.bytes_per_s, "enough": enough}


def trial_subject(rig: Rig) -> str:
    """What the job of a rig's trial is about."""
    return f"rig:{rig.pk}"


def trial_drawings(
    values: RigValues, kept: KeptTrial | None, query: QueryDict
) -> dict[str, Any] | None:
    """Quality against bitrate of each input; None where nothing was tried yet."""
    if kept is None:
        return None
    there = {i.id: i for i in values.inputs}
    drawn = [
        trial_drawing(values, there[found.input_id], found, query.get(found.input_id, ""))
        for found in kept.inputs
        if found.input_id in there
    ]
    first = drawn[0] if drawn else None
    return {
        "at": datetime.fromisoformat(kept.at),
        "head_room": kept.head_room,
        "inputs": drawn,
        "drawn": next((d for d in drawn if d["input"].id == query.get("trial")), first),
        "out_of_date": out_of_date(values, kept),
    }


def trial_drawing(values: RigValues, item: Input, found: KeptInput, chosen: str) -> dict[str, Any]:
    """One input's points on ruled paper: bitrate to the right, quality upwards, both by ratios."""
    now = values.track_of(item) if item.has_track and item.is_picture else None
    bitrates = [log10(max(p.kbps, 1.0)) for p in found.points]
    low, high = floor(min(bitrates) * 2) / 2, ceil(max(bitrates) * 2) / 2
    high = max(high, low + 0.5)
    proposed = found.proposal.number
    number = int(chosen) if chosen.isascii() and chosen.isdigit() and len(chosen) < 4 else proposed
    number = number if 0 <= number < len(found.points) else max(found.present, 0)
    points = []
    for n, point in enumerate(found.points):
        state = "present" if point.track == now else "tried"
        points.append(
            {
                "number": n,
                "crop": n + 1,
                "x": round(WIDE * (log10(max(point.kbps, 1.0)) - low) / (high - low), 1),
                "fine_y": quality_place(point.quality.ssim_fine),
                "mean_y": quality_place(point.quality.ssim),
                "state": state,
                "proposed": n == proposed,
                "chosen": n == number,
                "words": in_words(point.track.rate),
                "point": point,
            }
        )
    return {
        "input": item,
        "points": points,
        "chosen": points[number],
        "proposal": found.proposal,
        "speeds": speed_costs(item, found),
        "taken": 0 <= proposed < len(points) and points[proposed]["state"] == "present",
        "ticks": [
            {"x": round(WIDE * (log10(kbps) - low) / (high - low), 1), "words": words}
            for kbps, words in TICKS
            if low <= log10(kbps) <= high
        ],
        "levels": [{"y": quality_place(q), "words": f"{q:g}"} for q in QUALITY_TICKS],
    }


def speed_costs(item: Input, found: KeptInput) -> list[tuple[str, float]]:
    """The encoder's speeds in words, and about how many ms each takes of a frame here."""
    words = dict(SPEED_WORDS)
    costs = speeds_ms(found.points[max(found.present, 0)], item.is_screen)
    return [(words[speed], ms) for speed, ms in costs.items()]


def quality_place(ssim: float) -> float:
    """Where a quality stands in the drawing: what is missing from 1, by ratios."""
    least, most = log10(1 - QUALITY_TICKS[0]), log10(1 - QUALITY_TICKS[-1])
    share = (log10(max(1 - ssim, 1 - QUALITY_TICKS[-1])) - least) / (most - least)
    return round(HIGH * (1 - min(max(share, 0.0), 1.0)), 1)
