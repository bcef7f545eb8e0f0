"""soak --table: every process dies or stands still in every state of a take.

A cell is a process, a state and what happens to it. After each the take must add up by its account.
"""

import contextlib
import itertools
import os
import queue
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from kettle_core.errors import EngineError
from kettle_core.rig.format import Format
from kettle_core.rig.rig import Rig, input_of_device
from kettle_core.scene.scene import Scene, SceneSound
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.addresses import socket_folder
from kettle_engine.client import EngineClient
from kettle_engine.protocol import IDLE
from kettle_engine.rings.places import RingPlaces
from kettle_media.account.checking import check_account
from kettle_media.account.reading import read_unwritten
from kettle_media.rig_document import rig_to_dict
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import INCOMPLETE, RECORDING, TakeInfo
from kettle_media.take.times import FILLED, read_times
from kettle_studio.driver import Studio

PROCESSES = ("engine", "recorder", "viewer", "devices studio", "repair")
STATES = (
    "opening", "counting down", "recording", "a pause begins", "in a pause", "going on",
    "stopping", "joining", "repairing",
)  # fmt: skip
KILLED, TWICE, STOPPED = "killed", "killed twice", "stopped for 6 s"
STOP_S, AGAIN_S, AFTER_S, PAUSE_S = 6.0, 0.05, 1.5, 6.0
# What a cell may cost of any track beside how long the machine stood still, s.
MOST_LOST_S = {
    ("recorder", KILLED): 0.5, ("engine", KILLED): 0.5, ("devices studio", KILLED): 1.5,
    ("recorder", TWICE): 1.0, ("engine", TWICE): 1.0, ("devices studio", TWICE): 1.5,
    ("recorder", STOPPED): STOP_S, ("devices studio", STOPPED): 1.5,
}  # fmt: skip
LIMIT_S = 60.0
# So many ends of its processes an engine may have seen before it takes another cell.
MOST_ENDS = 2


@dataclass(frozen=True)
class Cell:
    """What happens to whom, and when."""

    process: str
    state: str
    what: str

    def __str__(self) -> str:
        return f"{self.process} {self.what} ({self.state})"


@dataclass
class Judged:
    """What came of a cell: faults in words, and what it cost."""

    cell: Cell
    state: str
    lost_s: float = 0.0
    answer_s: float = 0.0
    faults: list[str] = field(default_factory=list)

    def __str__(self) -> str:
        told = f"{self.cell}: {self.state}, {self.lost_s:.2f} s lost of the track that lost most"
        return "; ".join([told, f"answers within {self.answer_s:.2f} s", *self.faults])


def why_not(process: str, state: str) -> str:
    """Why a cell can't occur, or ""."""
    if process == "repair" and state != "repairing":
        return "nothing is repaired while a take is recorded; it waits or has not been begun"
    if process == "recorder" and state == "repairing":
        return "a take that is repaired has no recorder any more"
    return ""


def cells() -> list[Cell]:
    """All that can occur."""
    return [
        Cell(process, state, what)
        for process, state in itertools.product(PROCESSES, STATES)
        if not why_not(process, state)
        for what in (KILLED, TWICE, STOPPED)
    ]


def small_rig() -> Rig:
    """A webcam in its smallest mode, a headset and what the computer plays."""
    infos = {info.id: info for info in Studio().list_devices()}
    items = []
    for name in ("webcam-1", "headset", "system"):
        mode = min(infos[name].modes, key=lambda m: (m.width, m.fps or 0, m.sample_rate_hz))
        items.append(replace(input_of_device(infos[name], name), mode=mode))
    scene = Scene("scene-1", "Me", (), (SceneSound("headset"),))
    return Rig("Small", tuple(items), (scene,), Format(640, 360, Fraction(30)))


class Run:
    """An engine on a data folder of its own, and one take after the other in it.

    What the studio draws is kept beside that folder, for all that lie there.
    """

    def __init__(self, data: Path) -> None:
        self.data, self.points = data, data / "points"
        self.client = EngineClient(data, timeout_ms=9000)
        self._engines: list[subprocess.Popen[bytes]] = []
        self._takes = self._ends = 0
        self.begin()
        self.start_engine()

    def begin(self) -> None:
        """Begin another take."""
        self._takes += 1
        self.folder = TakeFolder(self.data / "takes" / f"t{self._takes}")
        shutil.rmtree(self.points, ignore_errors=True)
        self.points.mkdir(parents=True)

    @property
    def can_go_on(self) -> bool:
        """Whether another take is as good here as with a new engine."""
        # What ends often is started more slowly.
        return self._ends < MOST_ENDS and (self.asked("status") or {}).get("state") == IDLE

    def start_engine(self) -> None:
        """Start one and wait until it answers."""
        kept = {"KETTLE_STUDIO_KEEP": str(self.data.parent / "studio")} | os.environ
        places = {"KETTLE_FAULT_POINTS": str(self.points), "KETTLE_LOG": "engine"}
        command = [sys.executable, "-m", "kettle_engine.server", str(self.data)]
        self._engines.append(subprocess.Popen(command, env=kept | places))
        self._ends = 0
        self.until(lambda: self.asked("hello"))

    def close(self) -> None:
        """End it, and take away what lies in memory."""
        for engine in self._engines:
            engine.send_signal(signal.SIGCONT)
            engine.terminate()
        for engine in self._engines:
            engine.wait(LIMIT_S)
        shutil.rmtree(socket_folder(self.data), ignore_errors=True)
        RingPlaces(self.data).clear()
        shutil.rmtree(self.data, ignore_errors=True)

    def asked(self, do: str, **values: Any) -> Any:
        """An answer, or None."""
        with contextlib.suppress(EngineError):
            return self.client.ask(do, **values)
        return None

    def until(self, holds: Callable[[], Any], seconds: float = LIMIT_S) -> Any:
        """Wait for something. Raises EngineError where it does not come."""
        deadline = time.monotonic() + seconds
        while not (found := holds()):
            if time.monotonic() > deadline:
                raise EngineError(f"It did not happen within {seconds:.0f} s.")
            time.sleep(0.01)
        return found

    def order_at(self, point: str, how: str) -> None:
        """Have the next process that comes to a marked place do something."""
        (self.points / point).write_text(how)

    def pid(self, process: str) -> int:
        """A process's number; 0 where it is not there."""
        hello = self.asked("hello") or {}
        pids = {"engine": hello.get("pid", 0), **hello.get("pids", {})}
        return int(pids.get(process, 0))

    # how each state is come to

    def record(self, **more: Any) -> None:
        """Order the take."""
        folder = self.folder.path.name
        self.client.ask("record", rig=rig_to_dict(small_rig()), folder=folder, **more)

    def has_recorded(self, seconds: float) -> None:
        """Wait until the take is so long."""
        self.until(lambda: self._elapsed_s() > seconds)

    def _elapsed_s(self) -> float:
        status = self.asked("status") or {}
        return float((status.get("take") or {}).get("elapsed_s", 0.0))

    def come_to(self, state: str) -> None:
        """Bring the take into a state."""
        self.record(countdown_s=2 if state == "counting down" else 0)
        if state in ("opening", "counting down"):
            return
        self.has_recorded(1.0)
        if state in ("a pause begins", "in a pause", "going on"):
            self.asked("cue", what="pause")
            time.sleep(1.0 if state == "a pause begins" else PAUSE_S)
        if state == "going on":
            self.asked("cue", what="go-on")
        if state == "stopping":
            self.asked("stop")
        if state in ("joining", "repairing"):
            self._have_parts()
        if state == "joining":
            self.order_at("joining", "hold")
            self.asked("stop")
            self.until((self.points / "joining.reached").exists)
        if state == "repairing":
            self._cut_off()
            self.order_at("joining", "hold")
            self.start_engine()
            self.until((self.points / "joining.reached").exists)

    def _have_parts(self) -> None:
        self.kill("recorder")
        self.has_recorded(self._elapsed_s() + 0.5)

    def _cut_off(self) -> None:
        """End the engine and all its processes at once."""
        pids = [int(pid) for pid in (self.asked("hello") or {}).get("pids", {}).values() if pid]
        engine = self._engines[-1]
        engine.send_signal(signal.SIGSTOP)
        for pid in pids:
            with contextlib.suppress(ProcessLookupError):
                os.kill(pid, signal.SIGKILL)
        engine.kill()
        engine.wait()

    # what happens to a process

    def kill(self, process: str) -> None:
        """Kill it, and see to it that there is another one."""
        pid = self.pid(process)
        if not pid:
            return
        os.kill(pid, signal.SIGKILL)
        self._ends += 1
        if process == "engine":
            self._engines[-1].wait()
            self.start_engine()
        else:
            with contextlib.suppress(EngineError):
                self.until(lambda: self.pid(process) not in (pid, 0), 3.0)

    def do(self, cell: Cell) -> float:
        """Have it happen; gives how long the engine took to answer at worst while it did, s."""
        if cell.what == KILLED:
            self.kill(cell.process)
        elif cell.what == TWICE:
            self.kill(cell.process)
            time.sleep(AGAIN_S)
            self.kill(cell.process)
        elif pid := self.pid(cell.process):
            os.kill(pid, signal.SIGSTOP)
            self._ends += 1
            worst_s = 0.0
            if cell.process == "engine":
                time.sleep(STOP_S)
            else:
                worst_s = self._answers(STOP_S)
            with contextlib.suppress(ProcessLookupError):
                os.kill(pid, signal.SIGCONT)
            return worst_s
        return 0.0

    def _answers(self, seconds: float) -> float:
        worst_s, until_s = 0.0, time.monotonic() + seconds
        while time.monotonic() < until_s:
            began_s = time.monotonic()
            self.asked("status")
            worst_s = max(worst_s, time.monotonic() - began_s)
            time.sleep(0.1)
        return worst_s

    def finish(self) -> str:
        """Let the take go on for a while and end; gives its state, "" where there is none."""
        status = self.asked("status") or {}
        if status.get("state") in ("countdown", "recording"):
            with contextlib.suppress(EngineError):
                self.until(lambda: (self.asked("status") or {}).get("state") != "countdown", 20)
            take = (self.asked("status") or {}).get("take") or {}
            if take.get("paused"):
                self.asked("cue", what="go-on")
            time.sleep(AFTER_S)
            self.asked("stop")
        self.until(lambda: self._state() != RECORDING)
        return self._state()

    def _state(self) -> str:
        if not self.folder.info_path.exists():
            working = (self.asked("status") or {}).get("state") in ("countdown", "recording")
            # What a killed engine and recorder leave of one that never began is no take.
            return RECORDING if working else ""
        return self.folder.read_info().state


def judge(run: Run, cell: Cell, state: str, answer_s: float) -> Judged:
    """Hold the take that a cell has left against its account and what it may cost."""
    judged = Judged(cell, state or "not begun", answer_s=answer_s)
    if not state:
        if cell.state not in ("opening", "counting down"):
            judged.faults.append("the take is gone")
        return judged
    info = run.folder.read_info()
    account = check_account(run.folder.path, info.duration_ns or 0)
    untold = [f.words for f in account.findings if f.words not in info.notes]
    judged.faults += [f"not told: {words}" for words in untold]
    if state == INCOMPLETE:
        judged.faults += info.notes
    judged.faults += [f"{t.name}: {t.damaged}" for t in info.tracks if t.damaged]
    judged.lost_s = lost_s(run.folder, info)
    return judged


def lost_s(folder: TakeFolder, info: TakeInfo) -> float:
    """How much is missing in one piece of the track that lost most, but for pauses, s."""
    unwritten = read_unwritten(folder.path)
    worst = 0.0
    for track in info.tracks:
        rows = read_times(folder.times_path(track))
        there = rows[rows["kept"] != FILLED]
        at = np.r_[0, there["pts_ns"], info.duration_ns or 0].astype(np.int64)
        gaps = np.diff(at)
        for start, end in unwritten:
            gaps[(at[1:] > start - NS_PER_S) & (at[:-1] < end)] = 0
        worst = max(worst, float(gaps.max(initial=0)) / NS_PER_S)
    return worst


def run_cell(cell: Cell, run: Run) -> Judged:
    """Record a take in which it happens, and judge it."""
    try:
        run.come_to(cell.state)
        answer_s = run.do(cell)
        return judge(run, cell, run.finish(), answer_s)
    except (EngineError, OSError) as error:
        return Judged(cell, "hung", faults=[str(error)])


def run_cells(some: Sequence[Cell], beside: int) -> Iterator[Judged]:
    """Some of them, so many beside each other; engines serve as long as they are as good as new."""
    runs: queue.SimpleQueue[Run] = queue.SimpleQueue()

    def judged(cell: Cell) -> Judged:
        try:
            run = runs.get_nowait()
            run.begin()
        except queue.Empty:
            run = Run(Path(tempfile.mkdtemp(prefix="cell-", dir=room)))
        found = run_cell(cell, run)
        if run.can_go_on and not found.faults:
            runs.put(run)
        else:
            run.close()
        return found

    with tempfile.TemporaryDirectory(prefix="kettle-cells-", ignore_cleanup_errors=True) as room:
        try:
            with ThreadPoolExecutor(beside) as pool:
                yield from pool.map(judged, some)
        finally:
            while not runs.empty():
                runs.get().close()


def chosen_cells(seed: int, count: int) -> list[Cell]:
    """Cells by a seed."""
    return random.Random(seed).sample(cells(), count)  # noqa: S311


def soak_table(beside: int = 2) -> int:
    """Run the whole table and say what each cell cost; 1 where one is not as it must be."""
    for process, state in itertools.product(PROCESSES, STATES):
        if why := why_not(process, state):
            print(f"{process} ({state}) can't occur: {why}")
    faults = 0
    for judged in run_cells(cells(), beside):
        limit_s = MOST_LOST_S.get((judged.cell.process, judged.cell.what), 0.5)
        if judged.lost_s > limit_s:
            judged.faults.append(f"more than {limit_s} s")
        faults += bool(judged.faults)
        print(judged, flush=True)
    print(f"{len(cells())} cells, {faults} not as they must be")
    return 1 if faults else 0
