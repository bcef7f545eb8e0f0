"""What the export page tells: what each purpose costs, what was made."""

from dataclasses import dataclass
from typing import Any

from kettle_core.assembly.export import MOST_MOVING_S, MOVING, least_mb
from kettle_core.assembly.export import Export as Order
from kettle_core.assembly.export_costs import PURPOSES, Cost, Made, size_mb, time_s
from kettle_core.rig.devices import Mode
from kettle_core.rig.encoder_settings import ConstantQuality, program_settings
from kettle_media.assembly.export_document import export_from_dict
from kettle_web.assembly.material import Material
from kettle_web.models import Export, Job, Version
from kettle_web.templatetags.kettle import clock

KINDS = {
    "mp4": "MP4",
    "webm": "WebM",
    "av1": "WebM with AV1",
    "gif": "GIF",
    "webp": "WebP",
    "png": "PNG frames",
    "wav": "WAV",
    "flac": "FLAC",
    "mp3": "MP3",
    "m4a": "M4A",
}


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
    """What exports are made for, of so many seconds of a program."""
    made = last_made(material)
    rows = []
    for one in PURPOSES:
        mode = one.order.mode(material.format)
        size = size_mb(one.order, mode, made, length_s)
        time = time_s(one.order, mode, made, length_s)
        sentence = _why_not(one.order, mode, length_s)
        rows.append(
            Row(one.id, one.name, one.words, order_words(one.order), _mb(size, one.order),
                _minutes(time), sentence)
        )  # fmt: skip
    return rows


def _why_not(order: Order, mode: Mode, length_s: float) -> str:
    """Why a purpose can't be had, "" where it can."""
    if order.kind in MOVING:
        too_long = length_s > MOST_MOVING_S
        return f"At most {MOST_MOVING_S} s: mark a stretch in the assembly." if too_long else ""
    least = least_mb(mode, length_s) if order.max_mb else 0.0
    return (
        f"At {mode.height} lines this takes at least {least:.1f} MB."
        if least > order.max_mb
        else ""
    )


def last_made(material: Material) -> Made | None:
    """The program of the longest take that was composed: what its picture took, how fast it was."""
    best: tuple[float, Made] | None = None
    for take in material.takes.values():
        job, path = take.row.program_job, take.now.folder.program_path
        written = take.now.rig_then.format
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
    lines = f"{order.lines} px, portrait" if order.portrait else f"{order.lines} lines"
    how = f"CRF {order.crf}" if order.has_sound else ""
    if order.control != "quality":
        how = f"{order.kbps or 'usual'} kbit/s" + (" at most" if order.control == "ceiling" else "")
    how = f"at most {order.max_mb:g} MB" if order.max_mb else how
    words = ", ".join(filter(None, (kind, lines, how)))
    if not (order.from_ms or order.until_ms):
        return words
    until = clock(order.until_ms / 1000) if order.until_ms else "its end"
    return f"{words}, {clock(order.from_ms / 1000)} to {until}"


def _mb(cost: Cost | None, order: Order) -> str:
    if cost is None:
        return "–"
    if order.max_mb and order.has_picture and order.has_sound:
        return f"≤ {order.max_mb:g} MB"
    low, likely, high = (_short(mb) for mb in (cost.low, cost.likely, cost.high))
    return f"{likely} MB" if low == high else f"{likely} MB ({low}–{high})"


def _short(mb: float) -> str:
    return f"{mb:.1f}" if mb < 10 else f"{mb:.0f}"


def _minutes(cost: Cost | None) -> str:
    if cost is None:
        return "–"
    (low, unit), (high, last) = _span(cost.low), _span(cost.high)
    if unit != last:
        return f"{low} {unit}–{high} {last}"
    return f"{low} {unit}" if low == high else f"{low}–{high} {unit}"


def _span(seconds: float) -> tuple[str, str]:
    """A time in a unit that suits it."""
    whole = max(1, round(seconds))
    return (f"{whole}", "s") if whole < 90 else (f"{whole / 60:.0f}", "min")


def exports(version: Version) -> list[dict[str, Any]]:
    """The files of a version, newest first, with what came of them."""
    return [
        {
            "row": row,
            "words": order_words(export_from_dict(row.order)),
            "shown_as": _shown_as(export_from_dict(row.order)),
            "there": row.path.is_file() and bool(row.result),
            "is_old": row.document != version.document,
        }
        for row in Export.objects.filter(version=version).select_related("job")
    ]


def _shown_as(order: Order) -> str:
    """How a page shows it."""
    if order.kind in MOVING:
        return "picture"
    if order.kind == "png":
        return ""
    return "video" if order.has_picture else "sound"
