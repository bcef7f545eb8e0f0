"""bench export: sizes that are kept, speed beside ffmpeg, how soon a cut is answered."""

import json
import random
import tempfile
import time
from argparse import Namespace
from multiprocessing import get_context
from pathlib import Path

import numpy as np

from kettle_bench.assembly import assembly_times
from kettle_bench.program import SECONDS, in_turns_with_ffmpeg, need_ffmpeg
from kettle_bench.takes import recorded_take
from kettle_core.assembly.cut_list import CutList, Piece
from kettle_core.assembly.export import LEAST_USED, Export
from kettle_core.errors import CutError, EngineError
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.process import work_frame_by_frame
from kettle_media.assembly.export_file import export
from kettle_media.take.folder import TakeFolder

MOST_RATIO = 1.0
# So many times as long, so much more memory; the time left is told so well after a tenth.
LONGER, MOST_GROWTH, MOST_OFF = 8, 1.05, 0.2
ORDERS = (
    Export(), Export(lines=720, crf=24), Export("webm", lines=480, speed="ultrafast"),
    Export("m4a"), Export("flac"),
)  # fmt: skip
LENGTHS_S, SIZES_MB = (5.0, 1200.0), (2.0, 200.0)


def bench_export(options: Namespace) -> int:
    """Measure exports, the sizes of random tutorials as long as `--minutes` lasts.

    Raises EngineError where a limit is not kept.
    """
    need_ffmpeg()
    work_frame_by_frame()
    with tempfile.TemporaryDirectory() as name:
        data = Path(name)
        folder = recorded_take(data / "takes" / "long", SECONDS)
        wrong = [
            *_speed(folder),
            *_memory(folder),
            *_told(folder),
            *_sizes(folder, options.minutes * 60),
            *assembly_times(folder, data),
        ]
    if wrong:
        raise EngineError(f"Beyond its limit: {', '.join(wrong)}.")
    return 0


def _speed(folder: TakeFolder) -> list[str]:
    info = folder.read_info()
    cuts = CutList((Piece("p1", info.id, 0, SECONDS * NS_PER_S),))
    order, target = Export(crf=19, lufs=None), folder.path / "bench.mp4"

    def make() -> None:
        export({info.id: folder}, cuts, info.rig_values.format, order, target)

    make()  # sounds are cleaned, which is counted apart
    ratio = in_turns_with_ffmpeg(folder, f"export of {SECONDS} s, looked at", make)
    return ["export beside ffmpeg"] if ratio > MOST_RATIO else []


def _memory(folder: TakeFolder) -> list[str]:
    """How much an export needs, of a short tutorial and of a long one; how well its end is told."""
    order = Export(lines=480, speed="ultrafast")
    found = [_exported(folder, times, order) for times in (2, 2 * LONGER)]
    short, long = (one["peak_mb"] for one in found)
    off = found[1]["off"]
    print(
        f"export of {2 * SECONDS} s: {short:.0f} MB at most, {LONGER} times as long {long:.0f} MB; "
        f"its end told {off:+.0%} off after a tenth (limit {MOST_OFF:.0%})"
    )
    wrong = ["memory"] if long > MOST_GROWTH * short else []
    return [*wrong, "time left"] if abs(off) > MOST_OFF else wrong


def _told(folder: TakeFolder) -> list[str]:
    """How well the end of other exports is told."""
    wrong = []
    for order in ORDERS:
        words = f"{order.kind}, {order.lines} lines, {order.speed}"
        off = _exported(folder, 2, order)["off"]
        print(f"{words}: its end told {off:+.0%} off after a tenth (limit {MOST_OFF:.0%})")
        wrong += [f"time left of {words}"] if abs(off) > MOST_OFF else []
    return wrong


def _exported(folder: TakeFolder, times: int, order: Export) -> dict[str, float]:
    """What an export of a take several times after itself needed, in a process of its own."""
    process = get_context("spawn").Process(target=_export_times, args=(folder.path, times, order))
    process.start()
    process.join()
    found: dict[str, float] = json.loads((folder.path / "export.json").read_text())
    return found


def _export_times(path: Path, times: int, order: Export) -> None:
    work_frame_by_frame()
    folder, told = TakeFolder(path), list[tuple[float, float]]()
    info = folder.read_info()
    cuts = CutList(tuple(Piece(f"p{n}", info.id, 0, SECONDS * NS_PER_S) for n in range(times)))
    target = path / f"long.{order.kind}"
    began = time.monotonic()

    def tell(done: int, total: int) -> None:
        told.append((time.monotonic() - began, done / total))

    export({info.id: folder}, cuts, info.rig_values.format, order, target, tell)
    took_s = time.monotonic() - began
    # As `Job.left_s` tells it.
    (first_s, first), (at_s, share) = told[0], next(row for row in told if row[1] >= 0.1)
    left_s = (at_s - first_s) * (1 - share) / (share - first)
    found = {"peak_mb": _peak_mb(), "off": left_s / (took_s - at_s) - 1}
    (path / "export.json").write_text(json.dumps(found))


def _peak_mb() -> float:
    """Of this process's own memory; `getrusage` counts what started it too."""
    lines = Path("/proc/self/status").read_text().splitlines()
    return next(int(line.split()[1]) / 1000 for line in lines if line.startswith("VmHWM:"))


def _sizes(folder: TakeFolder, for_s: float) -> list[str]:
    """Tutorials of random lengths, no larger than random sizes; quality may end first."""
    info, rng = folder.read_info(), random.Random(4)  # noqa: S311
    until, target = time.monotonic() + for_s, folder.path / "sized.mp4"
    used, over, ended, refused, tries = [], 0, 0, 0, []
    while time.monotonic() < until:
        length_s = LENGTHS_S[0] * (LENGTHS_S[1] / LENGTHS_S[0]) ** rng.random()
        mb = SIZES_MB[0] * (SIZES_MB[1] / SIZES_MB[0]) ** rng.random() * rng.choice((0.02, 0.2, 1))
        cuts: list[Piece] = []
        left_s = length_s
        while left_s > 0.2:
            part_s = min(left_s, rng.uniform(2, SECONDS))
            begins = round(rng.uniform(0, SECONDS - part_s) * NS_PER_S)
            ends = begins + round(part_s * NS_PER_S)
            cuts.append(Piece(f"p{len(cuts)}", info.id, begins, ends))
            left_s -= part_s
        order = Export(lines=rng.choice((480, 720)), speed="ultrafast", max_mb=mb, lufs=None)
        try:
            made = export(
                {info.id: folder}, CutList(tuple(cuts)), info.rig_values.format, order, target
            )
        except CutError:
            refused += 1
            continue
        share = made.size_bytes / (mb * 1e6)
        over += share > 1
        tries.append(made.tries)
        if share >= LEAST_USED:
            used.append(share)
        else:
            ended += 1
    print(
        f"{len(used) + ended} sizes of {LENGTHS_S[0]:g} to {LENGTHS_S[1]:g} s: {over} above, "
        f"{len(used)} used up (least {min(used, default=1):.1%}), of {ended} quality ended first, "
        f"{refused} refused; {np.mean(tries or [0]):.1f} tries each"
    )
    return ["sizes"] if over else []
