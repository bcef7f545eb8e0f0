"""bench: speed as ratios measured in one run."""

import tempfile
import time
from argparse import Namespace
from collections.abc import Callable
from pathlib import Path

import numpy as np

from kettle_core.picture.compose import compose_frame
from kettle_core.picture.picture import picture_from_i420
from kettle_core.scene.scene_plan import plan_scene
from kettle_engine.live_take import record_live_take
from kettle_engine.process import work_frame_by_frame
from kettle_engine.recording.take import record_take
from kettle_media.program.take_program import render_program
from kettle_media.take.align import align_take
from kettle_media.take.folder import TakeFolder
from kettle_media.take.times import read_times
from kettle_studio.demo import demo_rig
from kettle_studio.driver import Studio

SECONDS = 12


def bench(_: Namespace) -> int:
    """Measure recording, aligning and composing against the length of the take."""
    work_frame_by_frame()
    rig = demo_rig()
    plan = plan_scene(rig.scenes[0], rig.format.frame_size)
    rng = np.random.default_rng(1)
    pictures = {
        i.id: picture_from_i420(
            rng.integers(16, 235, (i.mode.height * 3 // 2, i.mode.width), dtype=np.uint8)
        )
        for i in rig.inputs
        if i.is_picture
    }
    copied = _seconds(pictures["display-1"].y.copy, 100)
    composed = _seconds(lambda: compose_frame(plan, pictures), 100)
    print(f"compose one frame: {composed * 1e3:.1f} ms, {composed / copied:.1f} luma copies")
    with tempfile.TemporaryDirectory() as name:
        folder = TakeFolder(Path(name) / "take")
        wall, cpu = _both(lambda: record_take(Studio(), rig, folder.path, SECONDS * 10**9))
        print(
            f"record, virtual clock: {wall / SECONDS:.2f} of real time, {cpu / SECONDS:.2f} cores"
        )
        info = folder.read_info()
        wall, _cpu = _both(lambda: align_take(folder, info))
        print(f"align: {wall / SECONDS:.2f} of real time")
        sync = align_take(folder, info)
        wall, cpu = _both(lambda: render_program(folder, info, sync, folder.program_path))
        print(f"compose: {wall / SECONDS:.2f} of real time, {cpu / wall:.2f} cores")
        live = TakeFolder(Path(name) / "live")
        _wall, cpu = _both(lambda: record_live_take(Path(name), rig, live.path, SECONDS * 10**9))
        times = [read_times(live.times_path(t)) for t in live.read_info().tracks]
        dropped = sum(int(rows["dropped"].sum()) for rows in times)
        print(f"record, real time: {cpu / SECONDS:.2f} cores, {dropped} frames dropped")
    return 0


def _seconds(work: Callable[[], object], times: int) -> float:
    began = time.perf_counter()
    for _ in range(times):
        work()
    return (time.perf_counter() - began) / times


def _both(work: Callable[[], object]) -> tuple[float, float]:
    wall, cpu = time.perf_counter(), time.process_time()
    work()
    return time.perf_counter() - wall, time.process_time() - cpu
