"""bench sync: random takes of the studio against its truth, and how honest the bounds are."""

import random
import tempfile
import time
from argparse import Namespace
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import partial
from pathlib import Path

import numpy as np

from kettle_core.errors import EngineError
from kettle_core.rig.devices import Mode
from kettle_core.rig.rig import Input, Rig
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.process import work_frame_by_frame
from kettle_engine.recording.take import Happening, record_take
from kettle_media.take.align import align_take
from kettle_media.take.folder import TakeFolder
from kettle_media.take.times import KEPT, NOTED, read_times
from kettle_studio.demo import demo_rig
from kettle_studio.driver import Studio

LENGTHS_S = (20, 20, 30, 40, 60, 120, 300)
WEBCAM = Mode(640, 360, Fraction(60))
SOUND_MS = 1.0
# Of all tracks so many lie within 1 ms or half a frame, and within what is said of them.
MOST_ARE, WITHIN_BOUND, MOST_TIMES = 0.99, 0.95, 3.0


@dataclass(frozen=True)
class Found:
    """A track: how far off at worst, how far it may be, how far it is said to be."""

    off_ms: float
    may_ms: float
    bound_ms: float | None


def bench_sync(options: Namespace) -> int:
    """Random takes as long as `--minutes` lasts. Raises EngineError where a limit is not kept."""
    work_frame_by_frame()
    until, seed = time.monotonic() + options.minutes * 60, 0
    found: list[Found] = []
    while time.monotonic() < until:
        found += _take(seed)
        seed += 1
    right = float(np.mean([f.off_ms <= f.may_ms for f in found]))
    known = [f for f in found if f.bound_ms is not None]
    within = float(np.mean([f.off_ms <= (f.bound_ms or 0) for f in known]))
    bound = float(np.median([f.bound_ms or 0 for f in known]))
    off = float(np.median([f.off_ms for f in known]))
    print(f"{len(found)} tracks of {seed} takes: {right:.1%} within 1 ms or half a frame")
    print(
        f"{within:.1%} within what is said of them; median bound {bound:.2f} ms, error {off:.2f} ms"
    )
    if right < MOST_ARE or within < WITHIN_BOUND or bound > MOST_TIMES * off:
        raise EngineError("Sync is not as good as it is to be, or as it says.")
    return 0


def _take(seed: int) -> list[Found]:
    rng = random.Random(seed)  # noqa: S311
    seconds = rng.choice(LENGTHS_S)
    studio = Studio(seed, wander_ppm=rng.choice([0.0, 5.0, 10.0]))
    rig = _rig(with_laptop=rng.random() < 0.4)
    happenings = []
    for item in rig.inputs:
        if rng.random() < 0.25:
            at_s, fault = rng.uniform(3, seconds - 6), rng.choice(["losing", "unplugged"])
            for on, moment in ((True, at_s), (False, at_s + rng.uniform(0.5, 2))):
                set_fault = partial(studio.set_fault, item.device, fault, on)
                happenings.append(Happening(int(moment * NS_PER_S), set_fault))
    with tempfile.TemporaryDirectory() as name:
        folder = TakeFolder(Path(name) / "take")
        length_ns = seconds * NS_PER_S
        record_take(studio, rig, folder.path, length_ns, reserve_bytes=0, happenings=happenings)
        return [_track(studio, folder, item) for item in rig.inputs]


def _rig(with_laptop: bool) -> Rig:
    demo, items = demo_rig(), []
    for item in demo.inputs:
        if item.id == "webcam-1":
            items.append(replace(item, mode=WEBCAM))
        elif item.id == "laptop" and with_laptop:
            items.append(replace(item, on=True, recorded=True))
        elif item.id in ("headset", "system"):
            items.append(item)
    return replace(demo, inputs=tuple(items), scenes=(), stems=())


def _track(studio: Studio, folder: TakeFolder, item: Input) -> Found:
    """How far a track is off at its worst frame or block, 99 of 100 counted."""
    info = folder.read_info()
    sync = align_take(folder, info)
    rows = read_times(folder.times_path(info.track(item.id)))
    rows = rows[rows["kept"] != NOTED]
    there = rows["kept"] == KEPT
    clock = studio.clock_of(item.device)
    true_ns = np.array([clock.device_to_master_ns(x) for x in rows["device_ns"][there]])
    off = np.abs(sync.captured_ns[item.id][there] + info.start_master_ns - true_ns) / 1e6
    may_ms = 500 / float(item.mode.fps) if item.is_picture else SOUND_MS
    bound_ms = sync.of(item.id).bound_ms
    # A second microphone is laid where it hears the same, so late as the air is.
    if item.id == "laptop":
        may_ms = bound_ms or may_ms
    return Found(float(np.percentile(off, 99)), may_ms, bound_ms)
