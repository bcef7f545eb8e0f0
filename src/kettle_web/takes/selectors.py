"""What pages show of a take: how far its program is, how sure its sync."""

import json
from typing import Any

from django.utils import timezone

from kettle_web.models import Take


def program_progress(take: Take) -> dict[str, Any]:
    """How far composing is; `left_s` is None until it can be told."""
    left_s = None
    if take.program == Take.Program.COMPOSING and take.program_done and take.program_began_at:
        elapsed_s = (timezone.now() - take.program_began_at).total_seconds()
        left_s = elapsed_s * (take.program_total - take.program_done) / take.program_done
    words = take.get_program_display()
    waits = take.program_message if take.program == Take.Program.COMPOSING else ""
    return {
        "state": take.program,
        "words": waits or words,
        "says": waits or f"is {words}",
        "done": take.program_done,
        "total": take.program_total,
        "percent": round(100 * take.program_done / take.program_total) if take.program_total else 0,
        "left_s": left_s,
        "message": take.program_message,
    }


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
