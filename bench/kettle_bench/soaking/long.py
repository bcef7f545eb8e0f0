"""soak: a long take on the virtual clock with clocks that wander, pauses and lost devices."""

import os
import tempfile
import time
from collections.abc import Sequence
from dataclasses import replace
from fractions import Fraction
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kettle_cli.usage import rss_bytes
from kettle_core.errors import EngineError
from kettle_core.program.cues import Cue, GoOn, Mark, Pause
from kettle_core.rig.devices import Mode
from kettle_core.rig.rig import Input
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.recording.take import Happening, record_take
from kettle_media.take.align import align_take
from kettle_media.take.folder import TakeFolder
from kettle_media.take.times import FILLED, KEPT, NOTED, read_times
from kettle_studio.demo import demo_rig
from kettle_studio.driver import Studio

FloatArray = NDArray[np.floating]
# Of a long take memory is noted so often; from the first time on it grows by no more than that.
MEMORY_EVERY_S, MOST_GROWN = 300, 0.05
# After a pause something is there so soon, of a picture or a sound.
AFTER_PAUSE_NS = 100_000_000


def soak_long(minutes: float) -> None:
    """The demo rig with a small webcam for a long time, its clocks wandering by 10 ppm, with marks,
    pauses and devices that are unplugged for a while.

    Raises EngineError where sounds are more than 1 ms apart anywhere, a picture is more than
    half a frame off, anything is lost after a pause, or memory is not flat.
    """
    demo, studio = demo_rig(), Studio(3, wander_ppm=10.0)
    small = Mode(640, 360, Fraction(60))
    inputs = [
        replace(i, mode=small) if i.kind == "webcam" else i for i in demo.inputs if i.has_track
    ]
    rig = replace(demo, inputs=tuple(inputs), scenes=())
    with tempfile.TemporaryDirectory() as name:
        folder = TakeFolder(Path(name) / "long")
        began = time.monotonic()
        length_ns = round(minutes * 60) * NS_PER_S
        changes = _changes(studio, [i.device for i in inputs], length_ns)
        memory = _Memory()
        changes["happenings"] += memory.notes(length_ns)
        record_take(studio, rig, folder.path, length_ns, reserve_bytes=0, **changes)
        print(f"{minutes:g} min on the virtual clock: {time.monotonic() - began:.0f} s")
        grown = memory.in_words()
        began_cpu = time.process_time()
        info = folder.read_info()
        sync = align_take(folder, info, again=True)
        print(f"sync: {time.process_time() - began_cpu:.1f} s of CPU")
        grid_ns = np.arange(0.0, minutes * 60 * NS_PER_S, NS_PER_S)
        errors_ms, came_ns = {}, {}
        for item in inputs:
            track = next(t for t in info.tracks if t.name == item.id)
            rows = read_times(folder.times_path(track))
            captured_ns = sync.captured_ns[item.id][rows["kept"][rows["kept"] != NOTED] == KEPT]
            clock = studio.clock_of(item.device)
            # Silence that was put in has the stamps of what was before it.
            there = rows[rows["kept"] != FILLED]["device_ns"]
            came_ns[item.name] = np.array([clock.device_to_master_ns(d) for d in there])
            rows = rows[rows["kept"] == KEPT]
            true_ns = np.array([clock.device_to_master_ns(d) for d in rows["device_ns"]])
            off_ns = captured_ns + info.start_master_ns - true_ns
            errors_ms[item.id] = np.interp(grid_ns, rows["pts_ns"], off_ns) / 1e6
            found = sync.of(item.id)
            print(
                f"  {item.id}: {errors_ms[item.id].min():+.3f} to {errors_ms[item.id].max():+.3f} "
                f"ms off, {found.least_ppm:+.1f} to {found.most_ppm:+.1f} ppm in "
                f"{len(found.clock.pieces)} pieces, bound {found.bound_ms} ms"
            )
        _judge(inputs, errors_ms)
        for title, at_ns in came_ns.items():
            _look_after_pauses(title, at_ns - info.start_master_ns, changes["cues"])
        if grown > MOST_GROWN:
            raise EngineError(f"Its memory grew by {grown:.1%} while it recorded.")


def _changes(studio: Studio, devices: list[str], length_ns: int) -> dict[str, Any]:
    """Forty marks and six pauses over a take, and three devices that are unplugged for a while."""
    step_ns = length_ns // 53
    cues: list[Cue] = []
    for number in range(1, 53):
        at_ns = number * step_ns
        if number % 9 == 4 and number < 52:
            cues += [Pause(at_ns), GoOn(at_ns + step_ns // 2)]
        elif number % 4:
            cues.append(Mark(at_ns, f"mark {number}"))
    happenings = []
    for number, device in enumerate(devices[:3]):
        at_ns = (10 + 15 * number) * step_ns
        for on, when_ns in ((True, at_ns), (False, at_ns + step_ns // 4)):
            fault = partial(studio.set_fault, device, "unplugged", on)
            happenings.append(Happening(when_ns, fault))
    return {"cues": cues, "happenings": happenings}


def _look_after_pauses(name: str, at_ns: FloatArray, cues: Sequence[Cue]) -> None:
    """Raise EngineError where what was captured just after a pause was neither written nor
    noted.
    """
    for cue in cues:
        if isinstance(cue, GoOn):
            after_ns = float(at_ns[at_ns >= cue.at_ns].min(initial=np.inf)) - cue.at_ns
            if after_ns > AFTER_PAUSE_NS:
                at_s, lost_ms = cue.at_ns / NS_PER_S, after_ns / 1e6
                raise EngineError(f"{name} lost {lost_ms:.0f} ms after {at_s:.0f} s, a pause.")


class _Memory:
    """What this process needs while a take is recorded in it, noted every so often.

    Its resident set: of code that is shared more or less would count, by who else uses it just then
    (10 to 35 MB were seen).
    """

    def __init__(self) -> None:
        self._found_mb: list[float] = []

    def notes(self, length_ns: int) -> list[Happening]:
        """What has it noted."""
        every_ns = MEMORY_EVERY_S * NS_PER_S
        return [Happening(at, self._note) for at in range(every_ns, length_ns, every_ns)]

    def _note(self) -> None:
        self._found_mb.append(rss_bytes(os.getpid()) / 1e6)

    def in_words(self) -> float:
        """Print it; gives by how much more it was than at first, as a part of that."""
        if not self._found_mb:
            return 0.0
        every = ", ".join(f"{mb:.0f}" for mb in self._found_mb)
        grown = max(self._found_mb) / self._found_mb[0] - 1
        minutes = MEMORY_EVERY_S // 60
        print(f"memory every {minutes} min: {every} MB, {grown:+.1%} at most", flush=True)
        return grown


def _judge(inputs: list[Input], errors_ms: dict[str, FloatArray]) -> None:
    """Raise EngineError where a long take is not in step."""
    reference = next(errors_ms[i.id] for i in inputs if i.kind == "microphone")
    for item in inputs:
        apart_ms = float(np.abs(errors_ms[item.id] - reference).max())
        limit_ms = 500 / float(item.mode.fps) if item.is_picture else 1.0
        print(f"  {item.id} and the microphone: {apart_ms:.3f} ms apart at most")
        if apart_ms > limit_ms:
            raise EngineError(f"{item.name} is {apart_ms:.2f} ms off, limit {limit_ms:.2f} ms.")
