"""Exports of coded takes, judged by what ffprobe, ffmpeg and their own readers say."""

import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import soundfile
from PIL import Image

from kettle_bench.truth.browsing import plays_in_chromium
from kettle_bench.truth.judges import is_faststart, loudness_of, probed, seeks_to
from kettle_core.assembly.cut_list import CutList
from kettle_core.assembly.export import MOVING, Export, Kind
from kettle_core.rig.format import Format
from kettle_core.sound.stage import RATE_HZ
from kettle_core.sound.tone import CEILING_DBTP
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.assembly.export_file import chapters_beside, export
from kettle_media.tags import Tags
from kettle_media.take.folder import TakeFolder

NEAR_LU, NEAR_S = 0.3, 0.03
# What lossy sound alone is filled up to a packet by.
PADDED, PADDED_S = ("mp3", "m4a"), 0.06
LOSSY: tuple[Kind, ...] = ("m4a", "mp3")
LOSSLESS: tuple[Kind, ...] = ("wav", "flac")
SEEN: tuple[Kind, ...] = ("gif", "webp")
# Kinds whose loudness and peaks are promised, and those that say where chapters begin.
HEARD = ("mp4", "webm", "av1", "m4a", "mp3", "flac", "wav")
CHAPTERED = ("mp4", "webm", "av1", "m4a", "mp3", "flac")
TAGS = Tags("Fold “lines” & <sheets> 📄", "How a card is folded.\nNo glue.")


def orders() -> Iterator[Export]:
    """Sixty exports over all kinds."""
    for lufs in (-23.0, -16.0, -14.0, None):
        for kbps in (64, 128, 192):
            yield from (Export(kind, sound_kbps=kbps, lufs=lufs) for kind in LOSSY)
        yield from (Export(kind, lufs=lufs) for kind in LOSSLESS)
        yield Export("mp4", 480, crf=30, speed="ultrafast", lufs=lufs)
        yield Export("webm", 480, crf=40, speed="ultrafast", lufs=lufs)
    yield from (Export("mp4", 480, max_mb=mb, lufs=-16) for mb in (0.4, 0.8, 1.5))
    yield from (Export("mp4", 480, crf=30, sound_kbps=kbps, lufs=-14) for kbps in (32, 64, 96))
    yield from (Export("webm", 480, crf=40, sound_kbps=kbps, lufs=-14) for kbps in (32, 64, 96))
    yield Export("av1", 480, crf=45, speed="ultrafast")
    yield from (Export(kind, 480, fps=fps, until_ms=2000) for kind in SEEN for fps in (5, 12))
    yield Export("png", 480, until_ms=500)
    yield Export("mp4", 480, crf=30, portrait=True, aside=20)
    yield from (Export("mp4", 480, crf=30, from_ms=a, until_ms=b) for a, b in ((500, 0), (0, 2500)))


def export_faults(
    folder: TakeFolder,
    cuts: CutList,
    format_: Format,
    order: Export,
    room: Path,
    browser: Any = None,
) -> list[str]:
    """What is wrong of an export of a cut list of a take, in words; in a browser too."""
    path = room / f"made.{order.suffix}"
    export({folder.read_info().id: folder}, cuts, format_, order, path, tags=TAGS)
    whole_s = float(cuts.length_ns) / NS_PER_S
    wanted_s = (order.until_ms / 1000 or whole_s) - order.from_ms / 1000
    frames = round(wanted_s * format_.fps)
    if order.kind == "png":
        with zipfile.ZipFile(path) as archive:
            count = sum(name.endswith(".png") for name in archive.namelist())
        return [] if count == frames else [f"{count} frames of {frames}"]
    if order.kind in MOVING:
        with Image.open(path) as picture:
            count = getattr(picture, "n_frames", 1)
        return [] if abs(count - wanted_s * order.fps) <= 1 else [f"{count} frames"]
    near_s = PADDED_S if order.kind in PADDED else NEAR_S
    seen = plays_in_chromium(browser, path, wanted_s, near_s) if browser else []
    return [*_told(path, order, wanted_s, frames), *_heard(path, order), *seen]


def _told(path: Path, order: Export, wanted_s: float, frames: int) -> Iterator[str]:
    """What the container says."""
    told = probed(path)
    if abs(told.length_s - wanted_s) > (PADDED_S if order.kind in PADDED else NEAR_S):
        yield f"{told.length_s:.3f} s instead of {wanted_s:.3f}"
    if order.has_picture and told.frames != frames:
        yield f"{told.frames} frames of {frames}"
    if order.has_picture and not all(seeks_to(path, at_s) for at_s in range(int(wanted_s))):
        yield "it can't be jumped about in"
    size = path.stat().st_size
    if order.max_mb and size > order.max_mb * 1e6:
        yield f"{size} bytes"
    if order.kind in ("mp4", "m4a") and not is_faststart(path):
        yield "its tables come last"
    if told.tags.get("title") != TAGS.title:
        yield f"called {told.tags.get('title')}"
    if order.kind in LOSSLESS:
        sound = soundfile.info(str(path))
        found = sound.samplerate, sound.frames / sound.samplerate, sound.subtype
        if found != (RATE_HZ, wanted_s, "PCM_24"):
            yield f"{found} by libsndfile"
    has_chapters = chapters_beside(path).exists()
    if order.kind in CHAPTERED and bool(told.chapters) != has_chapters:
        yield f"{len(told.chapters)} chapters in the file, and beside it {has_chapters}"


def _heard(path: Path, order: Export) -> Iterator[str]:
    lufs, peak = loudness_of(path)
    if peak > CEILING_DBTP:
        yield f"peaks at {peak} dBTP"
    # What peaks at the ceiling can't be louder.
    is_limited = peak > CEILING_DBTP - 0.6 and order.lufs is not None and lufs < order.lufs
    if order.lufs is not None and abs(lufs - order.lufs) > NEAR_LU and not is_limited:
        yield f"{lufs} LUFS instead of {order.lufs}"
