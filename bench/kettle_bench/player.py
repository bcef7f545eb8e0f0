"""bench player: how soon a take plays from any place, a changed program is composed."""

import tempfile
import time
from argparse import Namespace
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np

from kettle_bench.listener import listener
from kettle_bench.program import SECONDS, repeated
from kettle_bench.takes import recorded_take
from kettle_core.errors import EngineError
from kettle_core.program.afterwards import Afterwards
from kettle_core.program.cues import Hide, Show
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.process import work_frame_by_frame
from kettle_media.player.messages import Message
from kettle_media.player.show import named_take
from kettle_media.program.take_program import render_program
from kettle_media.take.afterwards import write_afterwards
from kettle_media.take.align import align_take
from kettle_media.take.folder import TakeFolder

JUMPS = 40
JUMP_MS = 300.0
# A scene changed in so much of a program of so many times SECONDS.
CHANGED_S, MOST_RATIO = 30, 1.3
TIMES = 600 // SECONDS


def bench_player(_: Namespace) -> int:
    """Jump about in a take that plays; change some of a long one and compose it again.

    Raises EngineError where a limit is not kept.
    """
    work_frame_by_frame()
    with tempfile.TemporaryDirectory() as name:
        folder = recorded_take(Path(name) / "take", SECONDS)
        wrong = [*_jumps(folder), *_changed(folder, Path(name))]
    if wrong:
        raise EngineError(f"Beyond its limit: {', '.join(wrong)}.")
    return 0


def _jumps(folder: TakeFolder) -> list[str]:
    rng = np.random.default_rng(3)
    with listener() as player:
        player.open(named_take(folder.path))
        found = [player.played_ms(float(rng.uniform(0, SECONDS - 2))) for _ in range(JUMPS)]
    return beyond(found, "a jump", JUMP_MS)


def beyond(found: Sequence[Mapping[int, float]], what: str, limit_ms: float) -> list[str]:
    """Print how soon pictures and sounds came after something; gives what came too late."""
    wrong = []
    for kind, words in ((Message.PICTURE, "picture"), (Message.SOUND, "sound")):
        times_ms = [one[kind] for one in found]
        worst, median = max(times_ms), float(np.median(times_ms))
        told = f"worst of {len(found)} {worst:.0f} ms (limit {limit_ms:g})"
        print(f"{words} after {what}: {median:.0f} ms, {told}")
        wrong += [f"{words} after {what}"] if worst > limit_ms else []
    return wrong


def _changed(folder: TakeFolder, room: Path) -> list[str]:
    """A part of a long program against the same length composed by itself."""
    part = repeated(folder, room / "part", 1)
    info = part.read_info()
    part.write_info(replace(info, duration_ns=CHANGED_S * NS_PER_S))
    alone_s = _composed_s(part)
    long = repeated(folder, room / "long", TIMES)
    whole_s = _composed_s(long)
    first = (TIMES * SECONDS // 2) * NS_PER_S
    cues = (Hide(first, "webcam-1"), Show(first + CHANGED_S * NS_PER_S, "webcam-1"))
    write_afterwards(long, Afterwards(cues))
    again_s = _composed_s(long)
    ratio = again_s / alone_s
    print(
        f"program of {TIMES * SECONDS} s: {whole_s:.1f} s; {CHANGED_S} s of it changed: "
        f"{again_s:.1f} s, {ratio:.2f} × composing {CHANGED_S} s (limit {MOST_RATIO:g})"
    )
    return ["a changed program"] if ratio > MOST_RATIO else []


def _composed_s(folder: TakeFolder) -> float:
    info = folder.read_info()
    sync = align_take(folder, info)
    began = time.perf_counter()
    render_program(folder, info, sync, folder.program_path)
    return time.perf_counter() - began
