"""Records one take from start to end on the virtual clock: one process, one thread."""

from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from kettle_core.errors import TakeError
from kettle_core.program.cues import Cue, ToScene
from kettle_core.rig.devices import Driver
from kettle_core.rig.rig import Rig
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.clock import VirtualClock
from kettle_engine.devices.rack import Delivery, Rack
from kettle_engine.devices.report import DeviceFacts
from kettle_engine.devices.used import UsedPictures
from kettle_engine.recording.order import DISK_RESERVE_BYTES, Ended
from kettle_engine.recording.recorder import Recorder
from kettle_engine.stamps import Arrival
from kettle_media.account.writing import AccountWriter
from kettle_media.memory import give_memory_back
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TakeInfo

# Devices are opened a little before, so that the first frame of each is there at the start.
LEAD_NS = 300_000_000
# So often what was freed goes back to the system.
GIVE_BACK_EVERY_S = 10


@dataclass(frozen=True)
class Happening:
    """Something that happens in a take at a record time, in ns."""

    at_ns: int
    do: Callable[[], None]


def record_take(
    driver: Driver,
    rig: Rig,
    path: Path,
    duration_ns: int,
    on_progress: Callable[[float], None] = lambda seconds: None,
    reserve_bytes: int = DISK_RESERVE_BYTES,
    library: Path = Path("pictures"),
    cues: Sequence[Cue] = (),
    happenings: Sequence[Happening] = (),
) -> TakeInfo:
    """Record a rig for a time into a new folder. `library` holds the rig's pictures.

    Cues are kept when their time has come, the scene that it begins with among them; what else
    happens then, as faults of the studio's devices, happens.

    Captures are written in the order of (due time, place in the rig), so that the same seed
    gives the same take bit for bit.

    Raises
    ------
    TakeError
        If the folder is not empty, the disk is full or the take's end can't be written.
    DeviceError
        If a device of the rig is not plugged in.
    """
    clock = VirtualClock()
    rack = Rack(driver, clock)
    used = UsedPictures()
    try:
        rack.set_inputs(i for i in rig.inputs if i.has_track)
        rack.need_all()
        folder = TakeFolder.create(path)
        recorder = Recorder(folder, rig, library, reserve_bytes=reserve_bytes, at_once=True)
        start_ns = clock.now_ns() + LEAD_NS
        while rack.next_due_ns() < start_ns:
            rack.step()
        with folder.held():
            recorder.open_tracks(start_ns)
            recorder.begin(device_facts(rack, rig))
            if not cues and rig.scenes:
                cues = (ToScene(0, rig.default_scene.id),)
            kept = [Happening(cue.at_ns, partial(recorder.cue, cue)) for cue in cues]
            due = deque(sorted([*kept, *happenings], key=lambda h: h.at_ns))
            account = AccountWriter(path, "devices", recorder.tracks, start_ns, at_once=True)
            try:
                _record(rack, clock, recorder, used, duration_ns, on_progress, due, account)
            except BaseException:
                recorder.stop(clock.now_ns(), "interrupted")
                recorder.finish()
                raise
            return _told(recorder.finish(), recorder)
    finally:
        rack.close()


def _record(
    rack: Rack,
    clock: VirtualClock,
    recorder: Recorder,
    used: UsedPictures,
    duration_ns: int,
    on_progress: Callable[[float], None],
    due: deque[Happening],
    account: AccountWriter,
) -> None:
    start_ns, told_s = recorder.start_master_ns, 0
    while not recorder.is_over(clock.now_ns()):
        while due and start_ns + due[0].at_ns <= min(clock.now_ns(), start_ns + duration_ns):
            due.popleft().do()
        delivery = rack.step()
        elapsed_ns = clock.now_ns() - start_ns
        _note_changes(rack, recorder, elapsed_ns)
        if delivery:
            for item in delivery.inputs:
                if item.id in recorder.tracks:
                    stamps = delivery.stamps
                    account.came(item.id, stamps.no, stamps.master_ns, stamps.restarted)
                    _take(recorder, delivery, used, item.id)
        recorder.check(clock.now_ns())
        account.look(clock.now_ns())
        if elapsed_ns >= duration_ns:
            recorder.stop(start_ns + duration_ns)
        if elapsed_ns // NS_PER_S > told_s:
            told_s = elapsed_ns // NS_PER_S
            on_progress(min(elapsed_ns, duration_ns) / NS_PER_S)
            if told_s % GIVE_BACK_EVERY_S == 0:
                give_memory_back()
    account.close(clock.now_ns())


def _take(recorder: Recorder, delivery: Delivery, used: UsedPictures, name: str) -> None:
    capture = delivery.capture
    item = recorder.tracks[name].input
    arrival = Arrival(
        **vars(delivery.stamps),
        fetch=lambda: used.of(capture, item) if item.is_picture else capture.data,
    )
    recorder.take(name, arrival, delivery.why, delivery.events)


def _note_changes(rack: Rack, recorder: Recorder, at_ns: int) -> None:
    changes, rack.changes = rack.changes, []
    for change in changes:
        for item in change.source.inputs:
            recorder.note(f"device {change.state}", max(0, at_ns), input=item.id)


def device_facts(rack: Rack, rig: Rig) -> dict[str, DeviceFacts]:
    """What the open devices of a rig's tracks say of themselves."""
    found = {}
    for item in rig.inputs:
        info = rack.info_of(item)
        if item.has_track and info:
            found[item.id] = DeviceFacts(info.reported_latency_ms, rack.truth_of(item))
    return found


def _told(ended: Ended, recorder: Recorder) -> TakeInfo:
    if ended.state != recorder.info.state:
        raise TakeError(ended.notes[-1])
    return recorder.info
