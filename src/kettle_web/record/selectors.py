"""What the Record page shows: exactly what is about to be recorded, and what may be changed."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from django.conf import settings
from django.urls import reverse
from django.utils import timezone

from kettle_core.errors import KettleError
from kettle_core.rig import estimate
from kettle_core.rig.estimate import Cost, Measured
from kettle_core.rig.format_findings import format_findings
from kettle_core.rig.rig import Input
from kettle_core.rig.rig import Rig as RigValues
from kettle_core.rig.trial import in_words
from kettle_engine.protocol import COUNTDOWN, FINISHING, RECORDING
from kettle_engine.recording.order import DISK_RESERVE_BYTES
from kettle_engine.trial.kept import known_bitrates, read_trial, trial_folder
from kettle_media.roots import roots
from kettle_web.frame.engine import status_or_message
from kettle_web.frame.history import history
from kettle_web.frame.selectors import level_strip
from kettle_web.library.numbers import next_number
from kettle_web.models import Rig, Take, Tutorial
from kettle_web.record.forms import RecordForm, TutorialChoice
from kettle_web.record.keys import keys
from kettle_web.rigs.sheet import patch_sheet_findings, without_track
from kettle_web.rigs.tutorials import tutorial_for
from kettle_web.takes.names import free_folder

COUNTED_BY_DIGITS = 9


@dataclass(frozen=True)
class SummaryRow:
    """A track as it will be recorded."""

    input: Input
    line: str
    codec: str
    cost: Cost | None
    # Digit by which it is hidden or muted while recording, "" beyond the ninth.
    digit: str


def record_page(
    rig: Rig, form: RecordForm | None = None, scene: str = "", step: str = ""
) -> dict[str, Any]:
    """All of the page; a take begins with a `scene` and a `step`, if those are asked for."""
    values: RigValues = rig.values
    tutorial = tutorial_for(rig=rig)
    number = next_number(tutorial)
    trials: Mapping[str, Sequence[Measured]] = known_bitrates(
        values, read_trial(trial_folder(settings.DATA, rig.slug))
    )
    costs = estimate.track_costs(values, trials)
    rows = _rows(values, {c.id: c for c in costs})
    status = status_or_message()
    return {
        "rig": rig,
        "history": history(rig),
        "values": values,
        "page": "record",
        "form": form or RecordForm(values, tutorial.values, scene=scene, step=step),
        "keys": keys(),
        "strip": level_strip(),
        "pictures": [r for r in rows if r.input.is_picture],
        "sounds": [r for r in rows if not r.input.is_picture],
        "tracks": [r for r in rows if r.input.has_track],
        "whole": estimate.together(costs),
        "tutorial": tutorial,
        "choice": TutorialChoice(now=tutorial),
        "order": tutorial.values,
        "number": number,
        "findings": findings(rig),
        "misses": {s.id: " and ".join(without_track(values, s)) for s in values.scenes},
        "engine": status,
        "taking": status["state"] in (COUNTDOWN, RECORDING, FINISHING),
        "last": rig.takes.filter(deleted_at=None).exclude(state=Take.State.RECORDING).first(),
        **_where(rig, values, tutorial, number, estimate.together(costs)),
    }


def _rows(values: RigValues, costs: Mapping[str, Cost]) -> list[SummaryRow]:
    counted = {True: 0, False: 0}
    found = []
    files = values.format.files
    for item in (i for i in values.inputs if i.on):
        counted[item.is_picture] += 1
        number = counted[item.is_picture]
        mode = values.track_mode(item)
        if item.is_picture:
            codec = f"H.264, {in_words(values.track_of(item).rate)}"
        else:
            codec = {"flac": "FLAC 24 bit", "pcm24": "PCM 24 bit"}[files.sound_codec]
        digit = str(number) if number <= COUNTED_BY_DIGITS else ""
        found.append(SummaryRow(item, mode.in_words(), codec, costs.get(item.id), digit))
    return found


def _where(
    rig: Rig, values: RigValues, tutorial: Tutorial, number: int, whole: Cost
) -> dict[str, Any]:
    """Where the take goes, what it is called, how long it may be."""
    files = values.format.files
    root = next((r for r in roots(settings.TAKES) if r.value == files.root), None)
    free = root.free_bytes if root and not root.fault else 0
    try:
        folder = free_folder(
            pattern=files.pattern,
            tutorial=tutorial,
            rig=rig.name,
            number=number,
            when=timezone.now(),
            takes=settings.TAKES,
        )
    except KettleError as error:
        folder = str(error)
    # At the most that it may take, so that what is said can be relied on.
    most = whole.high_kbps * 125
    room_s = max(0, free - DISK_RESERVE_BYTES) / most if most else 0
    return {"folder": folder, "root": root, "free_bytes": free, "room_minutes": room_s / 60}


def findings(rig: Rig) -> list[tuple[str, str, str]]:
    """What is worth a look before recording: the sentence, where it is changed, that place."""
    values: RigValues = rig.values
    found = [(title, rig.get_absolute_url(), "Inputs") for title, _ in patch_sheet_findings(values)]
    address = reverse("format", args=[rig.slug])
    found += [(finding.sentence, address, "Format") for finding in format_findings(values)]
    return found
