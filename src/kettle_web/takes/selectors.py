"""What pages show of a take: how far its program is, how sure its sync."""

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from django import forms

from kettle_core.errors import TakeError
from kettle_core.program.afterwards import Afterwards
from kettle_core.program.cues import GoOn, Mark, Pause, Step
from kettle_core.rig.rig import Input
from kettle_core.scene.scene import Scene
from kettle_media.survey.card import card_strip
from kettle_media.survey.fine import read_fine
from kettle_media.survey.strips import read_strip
from kettle_media.survey.survey import SurveyedTrack
from kettle_media.take.info import TrackInfo
from kettle_web.models import Job, Take
from kettle_web.takes.forms import CloseUpForm, MarkForm, NudgeForm
from kettle_web.takes.now import TakeNow, take_now
from kettle_web.takes.overview import cue_rows, mark_row
from kettle_web.takes.plots import Plot, clock_plot, fact_plots
from kettle_web.takes.verdicts import verdicts


def program_words(take: Take) -> str:
    """How a take's program stands."""
    job = take.program_job
    if job is None:
        return "not composed yet"
    waits = job.state == Job.State.RUNNING and job.sentence
    return str(waits or _WORDS[job.state])


def newest_repair(take: Take) -> Job | None:
    """The repair of a take that is going on, or what came of the last one."""
    return Job.objects.filter(kind="repair", subject=f"take:{take.pk}").order_by("-pk").first()


_WORDS: dict[str, str] = {
    Job.State.WAITING: "waits to be composed",
    Job.State.RUNNING: "being composed",
    Job.State.DONE: "composed",
    Job.State.FAILED: "could not be composed",
    Job.State.CANCELLED: "was cancelled",
}

# Marks and cues that are listed with their forms; the others are on the lines.
MOST_LISTED = 200


@dataclass(frozen=True)
class Shown:
    """What the page shows of a take besides its files; empty where it can't be read."""

    marks: list[dict[str, Any]] = field(default_factory=list)
    cues: list[dict[str, Any]] = field(default_factory=list)
    scenes: list[Scene] = field(default_factory=list)
    pictures: list[Input] = field(default_factory=list)
    sounds: list[Input] = field(default_factory=list)
    new_mark: forms.Form = field(default_factory=MarkForm)
    close_up: forms.Form = field(default_factory=CloseUpForm)
    is_changed: bool = False
    # Marks beyond those that are listed.
    more_marks: int = 0
    sync: "list[SyncRow]" = field(default_factory=list)
    plots: list[Plot] = field(default_factory=list)
    verdicts: dict[str, str] = field(default_factory=dict)
    frame: tuple[int, int] = (16, 9)


def shown(take: Take, wrong: Mapping[str, forms.Form]) -> Shown:
    """What the page shows of a take, with forms that were wrong."""
    try:
        now = take_now(take)
    except TakeError:
        return Shown()
    marks = []
    for mark in now.said.marks[:MOST_LISTED]:
        row = mark_row(now, mark)
        form = wrong.get(f"mark:{row['id']}") or MarkForm(
            initial={"text": mark.text}, auto_id=f"{row['id']}-%s"
        )
        marks.append({**row, "form": form})
    tracks = set(now.was.tracks)
    inputs = [i for i in now.was.rig.inputs if i.id in tracks]
    return Shown(
        marks,
        cue_rows(now, now.cues, (Mark, Step, Pause, GoOn))[:MOST_LISTED],
        list(now.was.rig.scenes),
        [i for i in inputs if i.is_picture],
        [i for i in inputs if not i.is_picture],
        wrong.get("new-mark") or MarkForm(),
        wrong.get("close_up") or CloseUpForm(auto_id="close-up-%s"),
        take.values != Afterwards(),
        max(0, len(now.said.marks) - MOST_LISTED),
        sync_rows(now, wrong),
        fact_plots(now.survey, now.info.tracks, now.was.rig) if now.survey else [],
        verdicts(now),
        now.was.rig.format.frame_size,
    )


@dataclass(frozen=True)
class SyncRow:
    """A track's sync for people: as it came, what was done, how sure that is."""

    name: str
    title: str
    offset_ms: float
    drift_ppm: float
    source: str
    left: str
    places: str
    nudge: forms.Form
    frame_ms: float
    clock: Plot | None


def sync_rows(now: TakeNow, wrong: Mapping[str, forms.Form]) -> list[SyncRow]:
    """The take's sync.json, a row a track; empty before it is measured."""
    try:
        report = json.loads((now.folder.path / "sync.json").read_text())
        # Takes from before reports had a version have a list of tracks.
        rows = report["tracks"] if isinstance(report, dict) else report
        return [_sync_row(now, row, wrong) for row in rows]
    except (TakeError, OSError, ValueError, KeyError, TypeError):
        return []


def _sync_row(now: TakeNow, row: dict[str, Any], wrong: Mapping[str, forms.Form]) -> SyncRow:
    track = now.info.track(row["name"])
    found = now.survey.track(track.name) if now.survey else None
    frame_ms = 1000 / float(track.mode.fps) if track.is_picture else 0.0
    nudge_ms = now.changed.nudge_ms(track.name)
    return SyncRow(
        track.name,
        track.title,
        row["offset_ms"],
        row["drift_ppm"],
        row["source"],
        left_over(row.get("bound_ms"), frame_ms),
        _places(row),
        wrong.get(f"nudge:{track.name}")
        or NudgeForm(initial={"ms": f"{nudge_ms:g}"}, auto_id=f"nudge-{track.name}-%s"),
        frame_ms or 1000 / float(now.was.rig.format.fps),
        clock_plot(found) if found else None,
    )


def left_over(bound_ms: float | None, frame_ms: float) -> str:
    """What may be left over of a track's offset after its correction."""
    if bound_ms is None:
        return "not known how sure"
    words = f"± {bound_ms:.2f} ms"
    return f"{words}, {bound_ms / frame_ms:.1f} frames" if frame_ms else words


def _places(row: dict[str, Any]) -> str:
    """At how many places contents said so, and how the clock wandered."""
    said = [e for e in row.get("evidence", []) if e.get("sure")]
    words = f"agreed at {len(said)} of {len(row['evidence'])} places" if row.get("evidence") else ""
    least, most = row.get("least_ppm", 0.0), row.get("most_ppm", 0.0)
    if most - least >= 0.1:
        words += f" · wandered {least:+.1f} to {most:+.1f} ppm".replace("-", "−")
    return words.removeprefix(" · ")


def strip(take: Take, name: str, first: int, step_ns: int) -> bytes:
    """Small pictures of a track beside each other, as JPEG. Raises TakeError."""
    now, track, found = _surveyed(take, name)
    return read_strip(now.folder, track, found, first, step_ns)


def card(take: Take) -> bytes:
    """What moves on a take's card, as JPEG. Raises TakeError where nothing was looked at."""
    now = take_now(take)
    for track in now.survey.tracks if now.survey else ():
        if track.sheets:
            return card_strip(now.folder, track.name, track.sheets)
    raise TakeError("This take was not looked at yet. Wait a moment.")


def fine(take: Take, name: str, first: int, step_ns: int, count: int) -> bytes:
    """Steps of a sound's waveform, as in a survey. Raises TakeError."""
    now, track, found = _surveyed(take, name)
    return read_fine(now.folder, track, found, first * step_ns, step_ns, count).tobytes()


def _surveyed(take: Take, name: str) -> tuple[TakeNow, TrackInfo, SurveyedTrack]:
    now = take_now(take)
    track = next((t for t in now.info.tracks if t.name == name), None)
    found = now.survey.track(name) if now.survey else None
    if track is None or found is None:
        raise TakeError("This track was not looked at yet. Reload the page.")
    return now, track, found
