"""A trial from the rings to its proposal, in a process that ranks as the recorder does."""

import multiprocessing
import os
import threading
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from multiprocessing.connection import Connection
from pathlib import Path

from kettle_core.errors import EngineError, KettleError
from kettle_core.picture.picture import Plane
from kettle_core.rig.rig import Input, Rig
from kettle_core.rig.trial import (
    Proposal,
    TrialPoint,
    head_room,
    ladder,
    propose,
    track_room,
)
from kettle_engine.process import work_frame_by_frame
from kettle_engine.trial.sampling import sample
from kettle_media.picture.trial import crop, crop_at, loads_together, mapped, try_setting
from kettle_media.priority import RECORDS, rank

SAMPLED_S = 3.0
POLL_S = 0.1
_context = multiprocessing.get_context("spawn")


@dataclass(frozen=True)
class InputTrial:
    """What was found of one input.

    `present` is the number of the point that is set now, -1 for none. `crops` are the enlarged
    parts, (32, 72) uint8: as it was, then after each point.
    """

    input_id: str
    points: tuple[TrialPoint, ...]
    present: int
    proposal: Proposal
    load: float
    crops: tuple[Plane, ...] = field(repr=False)


@dataclass(frozen=True)
class Trial:
    """A trial of a rig: its inputs, and the head-room of all tracks together as they are set."""

    inputs: tuple[InputTrial, ...]
    head_room: float


def run_trial(
    rig: Rig,
    rings: Mapping[str, str],
    folder: Path,
    tell: Callable[[int, int], None],
    seconds: float = SAMPLED_S,
) -> Trial:
    """Try settings on what is on a rig's picture inputs now.

    Parameters
    ----------
    rig : Rig
    rings : files of its pictures' rings by input
    folder : a place on a disk for the frames; nothing is left in it
    tell : called about ten times a second with (steps done, steps in all); what it raises ends it
    seconds : how long frames are taken

    Raises
    ------
    KettleError
        If the disk has no room, nothing comes, or an encoder can't be opened.
    """
    ours, theirs = _context.Pipe()
    process = _context.Process(target=_work, args=(theirs, rig, dict(rings), folder, seconds))
    process.daemon = True
    process.start()
    theirs.close()
    told = (0, 1)
    try:
        while True:
            tell(*told)
            if not ours.poll(POLL_S):
                continue
            try:
                word, value = ours.recv()
            except EOFError as error:
                raise EngineError("The trial ended by itself. Try it once more.") from error
            if word == "step":
                told = value
            elif word == "failed":
                raise value
            else:
                return value  # type: ignore[no-any-return]
    finally:
        process.kill()
        process.join()
        ours.close()
        with mapped(folder):
            pass


def _work(line: Connection, rig: Rig, rings: dict[str, str], folder: Path, seconds: float) -> None:
    rank(RECORDS)
    work_frame_by_frame()
    try:
        with mapped(folder):
            line.send(("done", _trial(line, rig, rings, folder, seconds)))
    except KettleError as error:
        line.send(("failed", error))
    except BrokenPipeError:
        return  # who asked is gone


def _trial(
    line: Connection, rig: Rig, rings: dict[str, str], folder: Path, seconds: float
) -> Trial:
    items = [i for i in rig.inputs if i.id in rings]
    modes = {i.id: i.used_mode for i in items}
    tracks = {i.id: rig.track_of(i) for i in items}
    ladders = {i.id: ladder(tracks[i.id], tracks[i.id].written(modes[i.id])) for i in items}
    total = 2 + sum(len(steps) for steps in ladders.values())
    done = 0

    lock = threading.Lock()

    def step() -> None:
        nonlocal done
        with lock:
            done += 1
            line.send(("step", (done, total)))

    samples = sample(rings, modes, folder, seconds)
    step()
    scaling, cores = rig.format.scaling, os.cpu_count() or 1
    loads = loads_together(samples, tracks, scaling)
    step()

    def try_input(item: Input) -> InputTrial:
        name, others = item.id, [load for other, load in loads.items() if other != item.id]
        sampled, track = samples[name], tracks[name]
        tried = []
        for setting in ladders[name]:
            tried.append(try_setting(sampled, setting, scaling))
            step()
        settings = [found.track for found in tried]
        present = settings.index(track) if track in settings else -1
        # What another setting loads follows from its work beside that of the present one.
        frame_s = tried[present].work_s
        points = tuple(
            TrialPoint(
                found.track,
                found.kbps,
                1 / found.work_s,
                track_room(loads[name] * found.work_s / frame_s, others, cores),
                found.quality,
            )
            for found in tried
        )
        first = sampled.frames[0][: sampled.mode.height]
        at = crop_at(first)
        crops = tuple(crop(luma, at) for luma in (first, *(found.shown for found in tried)))
        proposal = propose(item.name, track, points)
        return InputTrial(name, points, present, proposal, loads[name], crops)

    with ThreadPoolExecutor(cores) as pool:
        inputs = tuple(pool.map(try_input, items))
    return Trial(inputs, head_room(list(loads.values()), cores))
