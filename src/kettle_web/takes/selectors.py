"""What pages show of a take: how far its program is, how sure its sync."""

import json
from collections.abc import Sequence
from typing import Any

from kettle_core.rig.devices import SCREEN_KINDS
from kettle_web.frame.selectors import KIND_WORDS
from kettle_web.models import Job, Take
from kettle_web.takes.files import TakeFiles

SCREEN_WORDS = {KIND_WORDS[kind] for kind in SCREEN_KINDS}


def program_words(take: Take) -> str:
    """How a take's program stands."""
    job = take.program_job
    if job is None:
        return "not composed yet"
    waits = job.state == Job.State.RUNNING and job.sentence
    return str(waits or _WORDS[job.state])


_WORDS: dict[str, str] = {
    Job.State.WAITING: "waits to be composed",
    Job.State.RUNNING: "being composed",
    Job.State.DONE: "composed",
    Job.State.FAILED: "could not be composed",
    Job.State.CANCELLED: "was cancelled",
}


def played_together(files: Sequence[TakeFiles]) -> dict[str, Any] | None:
    """What is played of a take whose program is not composed yet: a picture, with its sounds.

    The first screen, or the first picture where there is none.
    """
    tracks = [f for f in files if f.track and f.play]
    pictures = [f for f in tracks if f.is_picture]
    if not pictures:
        return None
    screens = [f for f in pictures if f.kind.partition(",")[0] in SCREEN_WORDS]
    sounds = [f for f in tracks if not f.is_picture]
    return {"picture": (screens or pictures)[0], "sounds": sounds}


def sync_report(take: Take) -> list[dict[str, Any]]:
    """The take's sync.json as rows, with the tracks' titles; empty before it is measured."""
    try:
        report = json.loads((take.path / "sync.json").read_text())
        # Takes from before reports had a version have a list of tracks.
        rows = report["tracks"] if isinstance(report, dict) else report
    except (OSError, ValueError, KeyError):
        return []
    titles = {track["name"]: track["title"] for track in take.tracks}
    return [
        {**row, "title": titles.get(row["name"], row["name"]), "how_sure": _how_sure(row)}
        for row in rows
    ]


def _how_sure(row: dict[str, Any]) -> str:
    """How far off a track's correction may be, and how its clock wandered."""
    bound_ms = row.get("bound_ms")
    words = "not known how sure" if bound_ms is None else f"± {bound_ms:.2f} ms"
    least, most = row.get("least_ppm", 0.0), row.get("most_ppm", 0.0)
    if most - least >= 0.1:
        words += f" · wandered {least:+.1f} to {most:+.1f} ppm".replace("-", "−")
    return words
