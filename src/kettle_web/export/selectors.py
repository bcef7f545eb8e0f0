"""What the export page tells: what each purpose costs, what was made."""

from dataclasses import dataclass
from typing import Any

from kettle_core.assembly.export import Export as Order
from kettle_core.assembly.export import least_mb
from kettle_core.assembly.export_costs import PURPOSES, Cost, Made, size_mb, time_s
from kettle_core.rig.devices import Mode
from kettle_core.rig.encoder_settings import ConstantQuality, program_settings
from kettle_media.assembly.export_document import export_from_dict
from kettle_web.assembly.material import Material
from kettle_web.models import Export, Job, Version

KINDS = {"mp4": "MP4", "webm": "WebM", "wav": "WAV", "flac": "FLAC", "mp3": "MP3", "m4a": "M4A"}


@dataclass(frozen=True)
class Row:
    """A purpose with what it costs; `sentence` says why it can't be made."""

    id: str
    name: str
    words: str
    what: str
    size: str
    time: str
    sentence: str


def purposes(material: Material, length_s: float) -> list[Row]:
    """What exports are made for."""
    made = last_made(material)
    rows = []
    for one in PURPOSES:
        sized = one.order.format(material.format)
        mode = Mode(*sized.frame_size, sized.fps)
        size = size_mb(one.order, mode, made, length_s)
        time = time_s(one.order, mode, made, length_s)
        least = least_mb(mode, length_s) if one.order.max_mb else 0.0
        sentence = (
            f"At {mode.height} lines this takes at least {least:.1f} MB."
            if least > one.order.max_mb
            else ""
        )
        rows.append(
            Row(one.id, one.name, one.words, order_words(one.order), _mb(size, one.order),
                _minutes(time), sentence)
        )  # fmt: skip
    return rows


def last_made(material: Material) -> Made | None:
    """The program of the longest take that was composed: what its picture took, how fast it was."""
    best: tuple[float, Made] | None = None
    for take in material.takes.values():
        job, path = take.row.program_job, take.now.folder.program_path
        written = take.now.info.rig_values.format
        mode = Mode(*written.frame_size, written.fps)
        rate = program_settings(written.program, mode).rate
        length_s = take.length_ns / 1e9
        if not (path.is_file() and length_s and isinstance(rate, ConstantQuality)):
            continue
        kbps = path.stat().st_size / length_s / 125 - written.program.sound_kbps
        made = Made(max(1.0, kbps), rate.crf, mode, _frames_per_s(job))
        if best is None or length_s > best[0]:
            best = length_s, made
    return best[1] if best else None


def _frames_per_s(job: Job | None) -> float:
    if job is None or not (job.began_at and job.ended_at and job.total):
        return 0.0
    return float(job.total / max(0.1, (job.ended_at - job.began_at).total_seconds()))


def order_words(order: Order) -> str:
    """What is made, in one line."""
    kind = KINDS[order.kind]
    if not order.has_picture:
        return f"{kind}, sound alone"
    how = f"at most {order.max_mb:g} MB" if order.max_mb else f"CRF {order.crf}"
    return f"{kind}, {order.lines} lines, {how}"


def _mb(cost: Cost | None, order: Order) -> str:
    if cost is None:
        return "–"
    if order.max_mb and order.has_picture:
        return f"≤ {order.max_mb:g} MB"
    return f"{_short(cost.likely)} MB ({_short(cost.low)}–{_short(cost.high)})"


def _short(mb: float) -> str:
    return f"{mb:.1f}" if mb < 10 else f"{mb:.0f}"


def _minutes(cost: Cost | None) -> str:
    if cost is None:
        return "–"
    return f"{_span(cost.low)}–{_span(cost.high)}"


def _span(seconds: float) -> str:
    whole = max(1, round(seconds))
    return f"{whole} s" if whole < 90 else f"{whole / 60:.0f} min"


def exports(version: Version) -> list[dict[str, Any]]:
    """The files of a version, newest first, with what came of them."""
    return [
        {
            "row": row,
            "words": order_words(export_from_dict(row.order)),
            "has_picture": export_from_dict(row.order).has_picture,
            "there": row.path.is_file() and bool(row.result),
            "is_old": row.document != version.document,
        }
        for row in Export.objects.filter(version=version).select_related("job")
    ]
