"""Whether an exported file is what it should be: looked at before it is called done."""

from collections.abc import Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import av
import numpy as np

from kettle_core.assembly.export import MOVING, Export
from kettle_core.picture.picture import Plane
from kettle_core.sound.levels import Sound
from kettle_core.sound.loudness import LoudnessMeter
from kettle_core.sound.tone import CEILING_DBTP
from kettle_core.sound.true_peak import PeakMeter
from kettle_media.assembly.check_moving import check_archive, check_moving
from kettle_media.assembly.finding import Finding
from kettle_media.assembly.heard import decoded
from kettle_media.assembly.meant import Meant, Sounds, places_seen
from kettle_media.program.mix import SETTLED_SAMPLES, ProgramMix
from kettle_media.program.renderer import Renderer
from kettle_media.program.show import Show
from kettle_media.take.sound_track import MASTER_HZ
from kettle_media.told import Told

# A small file may be so much worse than what comes before or after; what is further away from what
# was meant than that is another picture.
WORSE_DB, LEAST_PSNR_DB = 3.0, 18.0
# Nearer than a step of 255 on the average it is the picture, whatever lies beside it.
SAME_DB = 48.0
LATE_MS = 10.0
# What was asked for; what was left alone differs by where windows begin.
LOUDNESS_LU, AS_IT_WAS_LU = 0.3, 1.5
HEARD = 1e-3


def check_export(
    path: Path,
    show: Show,
    order: Export,
    lufs: float | None,
    frames: int | None = None,
    meant: Meant | None = None,
) -> list[Finding]:
    """Look at a file that was made of a show, whose mix is as loud as was measured.

    `frames` are as many as it is to have, all of the plan's if None; what was not kept in `meant`
    is drawn and mixed again. Raises TakeError if it can't be read.
    """
    plan, meant = show.plan, meant or Meant(show.plan)
    frames, length_s = plan.frames if frames is None else frames, float(plan.frames / plan.fps)
    found = [_size(path, order)]
    if order.kind == "png":
        return [*found, check_archive(path, show)]
    if order.kind in MOVING:
        return [*found, check_moving(path, frames, length_s)]
    with Told(path), av.open(str(path)) as container:
        found.append(_length(container, length_s))
        if order.has_picture:
            found.append(_frames(path, frames))
    with ThreadPoolExecutor(1) as beside:
        seen = beside.submit(_pictures, path, show, meant.frames) if order.has_picture else None
        heard = list(_sound(path, show, order, lufs, meant))
        return [*found, *([seen.result()] if seen else []), *heard]


def _size(path: Path, order: Export) -> Finding:
    size = path.stat().st_size
    words = f"{size / 1e6:.2f} MB"
    if not order.max_mb:
        return Finding("Size", words, size > 0)
    return Finding("Size", f"{words} of at most {order.max_mb:g} MB", size <= order.max_mb * 1e6)


def _length(container: Any, length_s: float) -> Finding:
    there_s = (container.duration or 0) / 1e6
    words = f"{there_s:.3f} s, {length_s:.3f} s wanted"
    return Finding("Length", words, abs(there_s - length_s) < 0.1)


def _frames(path: Path, frames: int) -> Finding:
    with av.open(str(path)) as container:
        there = sum(1 for packet in container.demux(video=0) if packet.size)
    return Finding("Frames", f"{there} of {frames}", there == frames)


def _pictures(path: Path, show: Show, meant: Mapping[int, Plane]) -> Finding:
    """Frames at some places against the plan's own."""
    plan = show.plan
    drawn = Renderer(plan, show.sources, show.masks)
    near, good = [], True
    for around in places_seen(plan):
        there = _frame_at(path, float(around[0] / plan.fps))
        wanted = [meant[n] if n in meant else drawn.frame(n) for n in around]
        db = [_psnr_db(there, one) if there is not None else 0.0 for one in wanted]
        near.append(db[0])
        nearest = max(away - WORSE_DB for away in db[1:])
        good &= db[0] >= max(LEAST_PSNR_DB, min(nearest, SAME_DB))
    words = ", ".join(f"{db:.0f}" for db in near)
    return Finding("Pictures", f"{words} dB near to what was meant", good)


def _frame_at(path: Path, at_s: float) -> Plane | None:
    with av.open(str(path)) as container:
        stream = container.streams.video[0]
        container.seek(int(at_s * 1e6))
        for frame in container.decode(stream):
            if frame.time is not None and frame.time >= at_s - 1e-3:
                return np.asarray(frame.to_ndarray(format="yuv420p"))
    return None


def _psnr_db(one: Plane, other: Plane) -> float:
    if one.shape != other.shape:
        return 0.0
    error = float(np.mean((one.astype(np.float32) - other) ** 2))
    return 99.0 if error == 0 else float(10 * np.log10(255**2 / error))


def _sound(
    path: Path, show: Show, order: Export, made: float | None, meant: Meant
) -> Iterator[Finding]:
    """Where sound lies, how loud the whole is, and how high it peaks."""
    there, meter, peaks = Sounds(show.plan), LoudnessMeter(2, MASTER_HZ), PeakMeter(2)
    for at, block in _decoded(path):
        heard = block[:, max(0, -at) : max(0, show.plan.samples - at)]
        meter.take(heard)
        peaks.take(heard)
        there.take(at, block)
    late = []
    for number, (place, kept) in enumerate(zip(there.places, there.kept, strict=True)):
        wanted = meant.sounds.whole(number)
        if wanted is None:
            wanted = _mixed(show, *place)
        if np.abs(wanted).max(initial=0) > HEARD:
            late.append(_late_ms(kept, wanted))
    words = ", ".join(f"{ms:+.1f}" for ms in late) or "nothing is heard"
    yield Finding("Sync", f"{words} ms" if late else words, all(abs(ms) < LATE_MS for ms in late))
    lufs = meter.read().integrated_lufs
    most_lu = AS_IT_WAS_LU if order.lufs is None else LOUDNESS_LU
    near = made is None or abs(lufs - made) <= most_lu
    told = f"{lufs:.1f} LUFS" + (f", {order.lufs:g} wanted" if order.lufs is not None else "")
    yield Finding("Loudness", told, near or not late)
    dbtp = peaks.read().true_peak_dbtp
    yield Finding("Peaks", f"{dbtp:.1f} dBTP, {CEILING_DBTP:g} at most", dbtp <= CEILING_DBTP)


def _late_ms(there: Sound, wanted: Sound) -> float:
    """By how much a sound comes later than it was meant, ms."""
    one, other = (x.mean(axis=0) for x in (there, wanted))
    size = 2 * one.size
    found = np.fft.irfft(np.fft.rfft(one, size) * np.conj(np.fft.rfft(other, size)))
    place = int(np.argmax(found))
    return 1000 * (place if place < size // 2 else place - size) / MASTER_HZ


def _mixed(show: Show, first: int, count: int) -> Sound:
    begin = max(0, first - SETTLED_SAMPLES)
    mix = ProgramMix(show.plan, show.sounds.read, begin)
    parts = [mix.read(first + count - begin), mix.flush()]
    return np.concatenate(parts, axis=1)[:, first - begin : first - begin + count]


def _decoded(path: Path) -> Iterator[tuple[int, Sound]]:
    with Told(path):
        yield from decoded(str(path))
