"""soak: processes killed at random moments of takes, two in each take."""

import os
import random
import signal
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from kettle_bench.heartbeat import heartbeat
from kettle_bench.running_demo import application
from kettle_cli.children import pid_of
from kettle_core.errors import EngineError
from kettle_core.program.cues import Mark
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.client import EngineClient
from kettle_media.account.checking import check_account
from kettle_media.rig_document import rig_to_dict
from kettle_media.take.cues import read_cues, read_pauses
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import INCOMPLETE, RECORDING
from kettle_media.take.inspect import inspect_take
from kettle_media.take.times import read_times
from kettle_studio.demo import demo_rig

# Who dies in one take. An engine's end is the end of its take.
PAIRS = (("recorder", "viewer"), ("devices studio", "web"), ("worker", "engine"))
MOMENTS_S, AFTER_S = (0.3, 4.0), 4.0
# What a kill may cost beside the longest stall, of devices too, which open anew; how often it may
# cost more without one, and how soon the next take is being recorded.
MOST_LOST_S, DEVICES_LOST_S, SELDOM, NEXT_TAKE_S = 0.5, 1.5, 0.05, 3.0


@dataclass
class Killing:
    """A take in which processes were killed, and what is known of it since."""

    folder: TakeFolder
    victims: tuple[str, ...]
    wanted_s: float
    begun_s: float = 0.0
    # What was said when, until the last kill.
    said: dict[str, float] = field(default_factory=dict)
    killed_s: float = 0.0
    over_s: float = 0.0
    stall_s: float = 0.0
    lost_s: float = 0.0
    files: dict[str, tuple[int, int]] = field(default_factory=dict)

    @property
    def begun_after_s(self) -> float:
        """How long it took from its being wanted to its being recorded, s."""
        return self.begun_s - self.wanted_s

    def is_over(self) -> bool:
        """Whether the take has ended, also after its engine was killed."""
        return self.folder.read_info().state != RECORDING


def soak_kills(kills: int) -> int:
    """Kill so many processes; gives 1 where a take lost more than it may, or began too late.

    Raises EngineError where a track can't be read, a cue is gone or an earlier take has changed.
    """
    rng = random.Random(1)  # noqa: S311
    judged: list[Killing] = []
    with (
        tempfile.TemporaryDirectory() as name,
        application(Path(name)) as (_, demo, client),
        heartbeat(Path(name) / "heartbeat") as stall_since,
    ):
        waiting: list[Killing] = []
        wanted_s = time.monotonic()
        # Nobody dies in the first one.
        for number in range(1 + -(-kills // 2)):
            folder = TakeFolder(Path(name) / "takes" / f"soak-{number}")
            victims = PAIRS[(number - 1) % len(PAIRS)] if number else ()
            killing = Killing(folder, victims, wanted_s)
            _one_take(killing, demo, client, rng)
            killing.stall_s = stall_since(wanted_s)
            waiting.append(killing)
            wanted_s = killing.over_s
            # The next take is wanted at once where the engine was killed.
            if "engine" not in killing.victims:
                judged += _judge(waiting)
                wanted_s = time.monotonic()
        judged += _judge(waiting)
        if changed := [k.folder.path.name for k in judged if _files(k.folder) != k.files]:
            raise EngineError(f"Takes changed after they were over: {', '.join(changed)}.")
    well = [_is_well(pair, judged) for pair in PAIRS]
    return 0 if all(well) else 1


def _one_take(killing: Killing, demo: int, client: EngineClient, rng: random.Random) -> None:
    """Record a take and kill its victims in it."""
    folder, rig = killing.folder, rig_to_dict(demo_rig())
    _until(lambda: _asked(client, "record", rig=rig, folder=folder.path.name))
    _until((folder.path / "take.json").exists)
    killing.begun_s = time.monotonic()
    moments = sorted(rng.uniform(*MOMENTS_S) for _ in killing.victims)
    order = list(killing.victims)
    if "engine" not in order:
        rng.shuffle(order)
    for victim, at_s in zip(order, moments, strict=True):
        _say_until(client, killing.said, killing.begun_s + at_s)
        hello = client.ask("hello")
        pids = {"engine": hello["pid"], **hello["pids"]}
        pid = pids.get(victim) or pid_of({"worker": "worker long"}.get(victim, victim), demo)
        os.kill(int(pid), signal.SIGKILL)
        killing.killed_s = time.monotonic()
    if "engine" in killing.victims:
        killing.over_s = time.monotonic()
        return
    time.sleep(AFTER_S)
    client.ask("stop")
    killing.over_s = time.monotonic()
    _until(killing.is_over)


def _judge(waiting: list[Killing]) -> list[Killing]:
    """Look at takes that are over; takes them out of what waits."""
    done, waiting[:] = list(waiting), []
    for killing in done:
        folder, victims = killing.folder, " and ".join(killing.victims) or "nobody"
        _until(killing.is_over)
        killing.lost_s, killing.files = _lost_s(folder), _files(folder)
        if gone := _lost_cues(killing):
            raise EngineError(f"After {victims} were killed these cues are gone: {gone}.")
        info = folder.read_info()
        account = check_account(folder.path, info.duration_ns or 0)
        untold = [f.words for f in account.findings if f.words not in info.notes]
        if untold or info.state == INCOMPLETE:
            raise EngineError(f"After {victims} were killed it does not add up: {untold or info}.")
        broken = [r["name"] for r in inspect_take(folder)["tracks"] if "error" in r]
        if broken:
            raise EngineError(f"After {victims} were killed these tracks can't be read: {broken}.")
        print(
            f"{folder.path.name}: {victims} killed, {killing.lost_s:.2f} s lost "
            f"(stall {killing.stall_s:.2f} s), begun after {killing.begun_after_s:.1f} s",
            flush=True,
        )
    return done


def _is_well(pair: tuple[str, ...], judged: list[Killing]) -> bool:
    """Whether takes of a pair lost no more than they may; says what they lost."""
    of = [k for k in judged if k.victims == pair]
    if not of:
        return True
    lost_s = np.array([k.lost_s for k in of])
    stall_s = np.array([k.stall_s for k in of])
    begun_s = np.array([k.begun_after_s for k in of])
    most_s = DEVICES_LOST_S if pair[0].startswith("devices") else MOST_LOST_S
    print(
        f"{' and '.join(pair)}: {len(of)} kills of each, lost {np.median(lost_s):.2f} s in the "
        f"median, {lost_s.max():.2f} at worst, {(lost_s > most_s).sum()} times more than "
        f"{most_s} s; stalls {stall_s.max():.2f} s at worst; begun after "
        f"{np.median(begun_s):.1f} s in the median, {begun_s.max():.1f} at worst"
    )
    return bool(
        (lost_s <= most_s + stall_s).all()
        and (lost_s > most_s).mean() <= SELDOM
        and (begun_s <= NEXT_TAKE_S + stall_s).all()
    )


def _lost_s(folder: TakeFolder) -> float:
    """How much is missing of the track that lost most, s."""
    info = folder.read_info()
    lost = 0.0
    for track in info.tracks:
        rows = read_times(folder.times_path(track))
        gaps_s = np.diff(rows["pts_ns"]) / NS_PER_S
        # A pause leaves a stamp a second.
        gaps_s = gaps_s[~_paused(folder, rows["pts_ns"][:-1])]
        ends_s = float(rows["pts_ns"][-1]) / NS_PER_S
        missing_s = (info.duration_ns or 0) / NS_PER_S - ends_s
        lost = max(lost, float(gaps_s.max(initial=0.0)), missing_s)
    return lost


def _files(folder: TakeFolder) -> dict[str, tuple[int, int]]:
    """Sizes and times of what was recorded, to tell whether something has changed it."""
    paths = [
        path
        for track in folder.read_info().tracks
        for path in (folder.track_path(track), folder.times_path(track))
    ]
    return {path.name: (path.stat().st_size, path.stat().st_mtime_ns) for path in paths}


def _say_until(client: EngineClient, said: dict[str, float], until_s: float) -> None:
    """Marks four times a second and pauses among them; keeps when each was said."""
    while time.monotonic() < until_s:
        text = f"mark {len(said)}"
        if _asked(client, "cue", what="mark", text=text):
            said[text] = time.monotonic()
        if len(said) % 6 == 3:
            _asked(client, "cue", what="pause")
        elif len(said) % 6 == 5:
            _asked(client, "cue", what="go-on")
        time.sleep(0.25)


def _paused(folder: TakeFolder, at_ns: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Whether times lie in a part of a pause that is not written."""
    found = np.zeros(at_ns.size, bool)
    for start, end in read_pauses(folder).unwritten:
        found |= (at_ns >= start - NS_PER_S) & (at_ns < (2**62 if end is None else end))
    return found


def _lost_cues(killing: Killing) -> list[str]:
    """Marks that were said more than a second before the take's last kill and are not in it."""
    kept = {cue.text for cue in read_cues(killing.folder)[0] if isinstance(cue, Mark)}
    return [
        text
        for text, at_s in killing.said.items()
        if at_s < killing.killed_s - 1 and text not in kept
    ]


def _asked(client: EngineClient, do: str, **values: object) -> bool:
    try:
        client.ask(do, **values)
    except EngineError:
        return False
    return True


def _until(holds: Callable[[], object], seconds: float = 60.0) -> None:
    deadline = time.monotonic() + seconds
    while not holds():
        if time.monotonic() > deadline:
            raise EngineError("It did not happen in time.")
        time.sleep(0.1)
