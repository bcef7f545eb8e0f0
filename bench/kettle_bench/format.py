"""bench format: bitrates kept, estimates against takes, a trial against a take, rewrapping."""

import json
import os
import shutil
import tempfile
import time
from argparse import Namespace
from collections.abc import Callable, Iterator
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np

from kettle_bench.stills import times_ns, write_still
from kettle_core.rig.estimate import Measured, track_costs
from kettle_core.rig.format import Rate
from kettle_core.rig.rig import Rig
from kettle_core.rig.trial import head_room, measured
from kettle_engine.devices.drivers import Drivers
from kettle_engine.live_take import record_live_take
from kettle_engine.recording.take import record_take
from kettle_engine.trial.alone import run_alone
from kettle_media.rig.file_driver import FileDriver
from kettle_media.take.folder import TakeFolder
from kettle_media.take.packets import read_packets, repeat_packets, rewrap
from kettle_media.take.track_index import track_index
from kettle_studio.demo import demo_rig
from kettle_studio.driver import Studio

SEEDS, TAKE_S = 10, 60
LIVE_S = 20
# In turns, the smallest of each: a disk is not as fast each time.
TURNS = 3
TWO_HOURS_S = 7200
NS = 10**9
RATES = (
    ("quality", Rate("quality", 18), Rate("quality", 26)),
    ("ceiling", Rate("ceiling", 18, 1500), Rate("ceiling", 20, 4000)),
    ("constant", Rate("constant", 18, 3000), Rate("constant", 20, 4000)),
)
PICTURES = ("display-1", "webcam-1")


def bench_format(_: Namespace) -> int:
    """Measure what the format promises."""
    with tempfile.TemporaryDirectory() as name:
        room = Path(name)
        points = _trial_and_take(room)
        _estimates(room, points)
        _rewrapping(room)
        _exact_rates(room)
    return 0


def _rig(screen: Rate, webcam: Rate) -> Rig:
    """The demo rig's two pictures at other rates, the webcam small so that it is quick."""
    rig = demo_rig()
    format_ = replace(
        rig.format,
        screens=replace(rig.format.screens, rate=screen),
        webcams=replace(rig.format.webcams, rate=webcam, scale=Fraction(1, 2)),
    )
    inputs = tuple(replace(i, recorded=i.id in PICTURES) for i in rig.inputs)
    return replace(rig, format=format_, inputs=inputs)


def _trial_and_take(room: Path) -> dict[str, list[Measured]]:
    """A trial's time, and its head-room beside that of a take."""
    rig, steps_s = demo_rig(), list[float]()
    # From when its devices are open, as they are for who presses the button.
    found = run_alone(room, rig, lambda done, total: steps_s.append(time.monotonic()))
    took_s = time.monotonic() - steps_s[0]
    tried = sum(len(i.points) for i in found.inputs)
    record_live_take(room, rig, room / "live", LIVE_S * NS)
    ended = [
        json.loads(line)
        for line in (room / "live" / "journal.jsonl").read_text().splitlines()
        if '"finished"' in line
    ][-1]
    loads = [ended["encoding_s"][n] / LIVE_S for n in PICTURES]
    real = head_room(loads, os.cpu_count() or 1)
    print(
        f"trial: {tried} settings in {took_s:.1f} s (at most 25); head-room {found.head_room:.2f}, "
        f"of a take {real:.2f}: {(1 + found.head_room) / (1 + real):.2f} of it (within 0.15)"
    )
    # The webcam is written at half its size below: another trial says what that takes.
    free = _rig(Rate("quality", 18), Rate("quality", 26))
    small = run_alone(room, free)
    return {
        i.input_id: measured(free.track_mode(free.input(i.input_id)), i.points)
        for i in small.inputs
    }


def _estimates(room: Path, points: dict[str, list[Measured]]) -> None:
    """How many takes lie within what was said of them, and constant bitrates over time."""
    for name, screen, webcam in RATES:
        rig = _rig(screen, webcam)
        costs = {c.id: c for c in track_costs(rig, points)}
        within, worst, errors = 0, 0.0, []
        for seed in range(1, SEEDS + 1):
            path = room / f"{name}-{seed}"
            drivers = Drivers(Studio(seed), FileDriver(room / "material"))
            record_take(drivers, rig, path, TAKE_S * NS)
            folder = TakeFolder(path)
            for track in folder.read_info().tracks:
                size = folder.track_path(track).stat().st_size
                usual, low, high = costs[track.name].bytes_in(TAKE_S)
                within += low <= size <= high
                errors.append(size / usual - 1)
                if name == "constant":
                    kbps = screen.kbps if track.name == "display-1" else webcam.kbps
                    worst = max(worst, *_off(folder.track_path(track), kbps))
            shutil.rmtree(path)
        spans = ", ".join(f"{c.high_kbps / c.low_kbps:.2f}" for c in costs.values())
        kept = f"; over any 10 s off by at most {100 * worst:.2f} %" if name == "constant" else ""
        print(
            f"{name}: {within} of {2 * SEEDS} tracks of {TAKE_S} s within the range; sizes "
            f"{100 * min(errors):+.1f} to {100 * max(errors):+.1f} % of the estimate; range spans "
            f"{spans} (at most 3){kept}",
            flush=True,
        )


def _off(path: Path, kbps: int) -> Iterator[float]:
    """How far any 10 s after the first two are off a constant bitrate, as a share."""
    packets = track_index(path).packets
    end_ms = int(packets["ms"][-1])
    total = np.r_[0, np.cumsum(packets["size"])]
    for first in range(2000, end_ms - 10_000, 500):
        low, high = np.searchsorted(packets["ms"], [first, first + 10_000])
        yield abs((total[high] - total[low]) * 8 / 1000 / 10 / kbps - 1)


def _rewrapping(room: Path) -> None:
    """An hour of 1080p into MP4, beside copying the file."""
    rig = demo_rig()
    webcams = replace(rig.format.webcams, rate=Rate("ceiling", 20, 4000))
    rig = replace(rig, format=replace(rig.format, webcams=webcams))
    record_take(Drivers(Studio(1), FileDriver(room / "m")), rig, room / "short", 20 * NS)
    folder = TakeFolder(room / "short")
    short = folder.track_path(folder.read_info().track("webcam-1"))
    hour = room / "hour.mkv"
    repeat_packets(short, hour, 180, 20_000)
    # The disk is not to be busy with it meanwhile.
    _sync(hour)
    times_s = [
        (
            _took_s(shutil.copyfile, hour, room / "copy.mkv"),
            _took_s(rewrap, hour, room / "hour.mp4"),
        )
        for _ in range(TURNS)
    ]
    copied_s, wrapped_s = map(min, zip(*times_s, strict=True))
    before, after = (read_packets(room / name) for name in ("hour.mkv", "hour.mp4"))
    same = [p.at_ms for p in before] == [p.at_ms for p in after]
    print(
        f"rewrapping an hour ({hour.stat().st_size / 1e6:.0f} MB): {wrapped_s / copied_s:.2f} × "
        f"copying it (at most 1.5), times of all packets {'the same' if same else 'DIFFER'}"
    )


def _took_s(work: Callable[[Path, Path], object], source: Path, target: Path) -> float:
    """Seconds until a file that is made of another is on the disk."""
    target.unlink(missing_ok=True)
    began = time.monotonic()
    work(source, target)
    _sync(target)
    return time.monotonic() - began


def _exact_rates(room: Path) -> None:
    """Every frame of two hours at n × 1001 / 30000 s, to the nanosecond."""
    for rate in ("30000/1001", "24000/1001"):
        fps = Fraction(rate)
        path = room / "exact.mp4"
        count = int(TWO_HOURS_S * fps)
        write_still(path, count, fps)
        packets = times_ns(path)
        off = max(abs(at - Fraction(n * NS) / fps) for n, at in enumerate(packets))
        print(f"{rate}: {len(packets)} of {count} frames in two hours, off by {float(off):.3f} ns")


def _sync(path: Path) -> None:
    with path.open("rb+") as file:
        os.fsync(file.fileno())
