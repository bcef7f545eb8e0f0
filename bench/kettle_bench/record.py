"""bench record: the demo rig recorded with the Record page open, scenes switched and a layer
dragged, a job waiting, beside loads.
"""

import json
import os
import signal
import subprocess
import sys
import tempfile
import time
from argparse import Namespace
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from fractions import Fraction
from http.client import HTTPConnection
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import numpy as np

from kettle_bench.bare import bare_cores
from kettle_bench.running_demo import application
from kettle_bench.yardstick import Yardstick
from kettle_cli.browser import launch
from kettle_cli.children import pid_of
from kettle_cli.usage import cpu_s, pss_bytes, stolen_s, with_children
from kettle_core.errors import KettleError
from kettle_core.rig.rig import Rig
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.client import EngineClient
from kettle_media.priority import ANSWERS, rank
from kettle_media.rig_document import rig_to_dict
from kettle_media.take.folder import TakeFolder
from kettle_media.take.times import read_times
from kettle_studio.demo import demo_rig

BURN = "while True: pass"
JOB_S = 8
SCENES, DRAG_EVERY_S = ("scene-1", "scene-2"), 0.1
DRAGGED = demo_rig().scenes[0].layers[-1].id
# Memory is to be flat from then on.
SETTLED_S = 300.0


@dataclass(frozen=True)
class Load:
    """What goes on beside the recording: processes that burn a core, and the display's rate."""

    name: str
    burners: int = 0
    nice: int = 0
    display_fps: int = 30


@dataclass(frozen=True)
class Used:
    """Cores that something took, and processor seconds that the yardstick took beside it."""

    cores: float
    yard_s: float

    @property
    def at_one_speed(self) -> float:
        """What it took had the machine always been as fast."""
        return self.cores / self.yard_s


LOADS = (
    Load("alone"),
    Load("two niced burners", 2, 10),
    Load("one burner", 1),
    Load("display at 60 fps", display_fps=60),
)


def bench_record(options: Namespace) -> int:
    """Record with a page open: frames dropped, CPU against bare encoders, memory."""
    from playwright.sync_api import sync_playwright

    names = [load.name for load in LOADS]
    if options.load and options.load not in names:
        raise KettleError(f"There is no load “{options.load}”. Loads: {', '.join(names)}.")
    # Who measures must not wait for what it measures.
    rank(ANSWERS)
    with (
        tempfile.TemporaryDirectory() as bare,
        tempfile.TemporaryDirectory() as name,
        application(Path(name)) as (base, demo, client),
        sync_playwright() as playwright,
    ):
        browser = launch(playwright)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        # The same frames cost an encoder more where the core beside it works too.
        page.goto(f"{base}/rigs/demo/record/")
        yard = Yardstick(Path(bare))
        before = _bare(Path(bare), demo, yard)
        print(f"bare encoders: {before.cores:.2f} cores beside what is shown")
        for load in (x for x in LOADS if options.load in ("", x.name)):
            _leave_a_job(page, f"{base}/rigs/demo/record/")
            with _burners(load):
                ours = _measure(Path(name), client, load, options.minutes * 60, page, yard)
            # In turn, as a machine does not stay as fast as it was.
            after = _bare(Path(bare), demo, yard)
            _print_shares(ours, before, after)
            before = after
        yard.close()
        browser.close()
    return 0


def _bare(folder: Path, demo: int, yard: Yardstick) -> Used:
    """What the bare encoders take while jobs wait, as they do for a take."""
    worker = pid_of("worker long", demo)
    try:
        os.kill(worker, signal.SIGSTOP)
        return Used(bare_cores(folder), yard.took_s())
    finally:
        os.kill(worker, signal.SIGCONT)


def _print_shares(ours: Used, before: Used, after: Used) -> None:
    """Against the bare encoders: as it was, and as it were at one speed of the machine."""
    share = 2 * ours.cores / (before.cores + after.cores)
    at_one_speed = 2 * ours.at_one_speed / (before.at_one_speed + after.at_one_speed)
    yards = ", ".join(f"{used.yard_s * 1000:.0f}" for used in (before, ours, after))
    print(
        f"  {share:.2f} of bare encoders, which took {before.cores:.2f} cores before it and "
        f"{after.cores:.2f} after it; {at_one_speed:.2f} had the machine stayed as fast "
        f"(the same work took {yards} ms before, beside and after it)",
        flush=True,
    )


def _leave_a_job(page: Any, address: str) -> None:
    """Record a take by the page, so that its program is being composed, and come back."""
    page.goto(address)
    page.get_by_role("spinbutton", name="Countdown").fill("0")
    page.get_by_role("button", name="Record").click()
    time.sleep(JOB_S)
    page.get_by_role("button", name="Stop").click()
    page.wait_for_url("**/takes/*/**")
    page.goto(address)


@contextmanager
def _burners(load: Load) -> Iterator[None]:
    command = ["nice", "-n", str(load.nice), sys.executable, "-c", BURN]
    running = [subprocess.Popen(command, start_new_session=True) for _ in range(load.burners)]
    try:
        yield
    finally:
        for process in running:
            process.kill()
            process.wait()


def _rig(display_fps: int) -> Rig:
    """The demo rig with its display at another rate."""
    rig = demo_rig()
    inputs = [
        replace(i, mode=replace(i.mode, fps=Fraction(display_fps))) if i.kind == "display" else i
        for i in rig.inputs
    ]
    return replace(rig, inputs=tuple(inputs))


def _measure(
    data: Path, client: EngineClient, load: Load, seconds: float, page: Any, yard: Yardstick
) -> Used:
    """Record for so long and print how it was; gives what it took without the studio's drawing."""
    folder = f"bench-{load.name.replace(' ', '-')}"
    client.ask("record", rig=rig_to_dict(_rig(load.display_fps)), folder=folder, countdown_s=1)
    while _take(client).get("elapsed_s", 0) < 1:
        time.sleep(0.05)
    hello = client.ask("hello")
    pids = {**hello["pids"], "engine": hello["pid"]}
    begun, began_s = {name: cpu_s(pid) for name, pid in pids.items()}, time.monotonic()
    stolen_before_s = stolen_s()
    memory: list[tuple[float, dict[int, int]]] = []
    answers_s: list[float] = []
    said: list[str] = []
    changes = 0
    while time.monotonic() - began_s < seconds:
        changes += 1
        _change(client, changes, min(2.5, seconds / 4))
        held = {pid: pss_bytes(pid) for pid in with_children(hello["pid"])}
        memory.append((time.monotonic() - began_s, held))
        answers_s.append(_answer_s(page.url))
        said = _take(client).get("trouble") or said
    elapsed_s = time.monotonic() - began_s
    others = (stolen_s() - stolen_before_s) / elapsed_s / (os.cpu_count() or 1)
    cores = {name: (cpu_s(pid) - begun[name]) / elapsed_s for name, pid in pids.items()}
    client.ask("stop")
    while not client.ask("status")["last_take"]:
        time.sleep(0.1)
    take = TakeFolder(data / "takes" / folder)
    dropped = drops_after(take, 1.0)
    ours = sum(used for name, used in cores.items() if not name.startswith("devices"))
    print(f"{load.name}: dropped after the first second {json.dumps(dropped)}")
    for sentence in said:
        print(f"  said: {sentence}")
    for row in rows_of_drops(take):
        print(f"  {row}")
    print(
        f"  without the studio's drawing {ours:.2f} cores "
        f"({', '.join(f'{n} {c:.2f}' for n, c in cores.items())}); "
        f"other machines had {others:.0%} of the processors meanwhile"
    )
    _print_memory(memory, min(SETTLED_S, seconds / 2), pids)
    print(
        f"  a page answers in {np.median(answers_s) * 1000:.0f} ms, "
        f"at worst {max(answers_s) * 1000:.0f} ms"
    )
    return Used(ours, yard.took_s())


def _print_memory(
    samples: Sequence[tuple[float, Mapping[int, int]]], settled_s: float, pids: Mapping[str, int]
) -> None:
    """How much all processes held, once it was settled; who held what when it was most."""
    settled = [(sum(held.values()) / 1e6, held) for at_s, held in samples if at_s >= settled_s]
    all_mb = [mb for mb, _ in settled]
    _, most = max(settled, key=lambda x: x[0])
    shares = ", ".join(f"{name} {most.get(pid, 0) / 1e6:.0f}" for name, pid in pids.items())
    third = max(1, len(all_mb) // 3)
    print(
        f"  memory {sum(samples[0][1].values()) / 1e6:.0f} MB, from {settled_s / 60:.1f} min on "
        f"{min(all_mb):.0f} to {max(all_mb):.0f} MB, in its first third at the median "
        f"{np.median(all_mb[:third]):.0f}, in its last {np.median(all_mb[-third:]):.0f} "
        f"(proportional share; when it was most {shares})"
    )


def _change(client: EngineClient, number: int, length_s: float) -> None:
    """For a while: another scene each second time, else a layer dragged, as the page does it."""
    until_s = time.monotonic() + length_s
    if number % 2:
        scene = SCENES[number // 2 % 2]
        client.ask("cue", what="scene", scene=scene)
    while time.monotonic() < until_s:
        time.sleep(DRAG_EVERY_S)
        if number % 2 == 0:
            left = 900 + int(300 * (until_s - time.monotonic()))
            box = {"left": left, "top": 500, "width": 432, "height": 432}
            place = {"scene": SCENES[0], "layer": DRAGGED, "box": box, "turn": 0.0}
            client.ask("cue", what="place", **place)


def _answer_s(address: str) -> float:
    """How long a page takes to answer."""
    where = urlsplit(address)
    began_s = time.monotonic()
    connection = HTTPConnection(where.netloc, timeout=30)
    connection.request("GET", where.path)
    connection.getresponse().read()
    connection.close()
    return time.monotonic() - began_s


def _take(client: EngineClient) -> dict[str, Any]:
    found: dict[str, Any] = client.ask("status").get("take", {})
    return found


def drops_after(folder: TakeFolder, from_s: float) -> dict[str, int]:
    """Frames or blocks dropped in a take after its first moments, by track."""
    found = {}
    for track in folder.read_info().tracks:
        rows = read_times(folder.times_path(track))
        late = rows["pts_ns"] > from_s * 1e9
        found[track.name] = int(rows["dropped"][late].sum())
    return found


def rows_of_drops(folder: TakeFolder) -> list[str]:
    """Which frames were dropped when and why, as the journal has them."""
    lines = map(json.loads, folder.journal_path.read_text().splitlines())
    return [
        f"{row['since_ns'] / NS_PER_S:.1f} to {row['until_ns'] / NS_PER_S:.1f} s: "
        f"{row['frames']} of {row['input']}, {row['why']}"
        for row in lines
        if row["what"] == "frames were dropped"
    ]
