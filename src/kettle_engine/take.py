"""Records one take from start to end, without pages."""

from collections.abc import Callable
from pathlib import Path

from kettle_core.devices import Driver
from kettle_core.rig import Rig
from kettle_core.timing import NS_PER_S
from kettle_engine.clock import Clock
from kettle_engine.rack import Rack
from kettle_engine.recorder import DISK_RESERVE_BYTES, Recorder
from kettle_media.take_folder import TakeFolder, TakeInfo

# Devices are opened a little before, so that the first frame of each is there at the start.
LEAD_NS = 300_000_000


def record_take(
    driver: Driver,
    clock: Clock,
    rig: Rig,
    path: Path,
    duration_ns: int,
    on_progress: Callable[[float], None] = lambda seconds: None,
    reserve_bytes: int = DISK_RESERVE_BYTES,
    library: Path = Path("pictures"),
) -> TakeInfo:
    """Record a rig for a time into a new folder. `library` holds the rig's pictures.

    Raises
    ------
    TakeError
        If the folder is not empty or the disk is full.
    DeviceError
        If a device of the rig is not plugged in.
    """
    rack = Rack(driver, clock)
    try:
        rack.set_inputs(i for i in rig.inputs if i.has_track)
        while rack.is_opening():
            rack.step()
        rack.need_all()
        folder = TakeFolder.create(path)
        start_ns = clock.now_ns() + LEAD_NS
        while rack.next_due_ns() < start_ns:
            rack.step()
        realtime = clock.realtime
        recorder = Recorder(folder, rig, rack, start_ns, realtime, library, reserve_bytes)
        try:
            told_s = 0
            while not recorder.is_over(clock.now_ns()):
                delivery = rack.step()
                elapsed_ns = clock.now_ns() - start_ns
                if delivery:
                    recorder.take(delivery)
                recorder.check(clock.now_ns())
                if elapsed_ns >= duration_ns:
                    recorder.stop(start_ns + duration_ns)
                if elapsed_ns // NS_PER_S > told_s:
                    told_s = elapsed_ns // NS_PER_S
                    on_progress(min(elapsed_ns, duration_ns) / NS_PER_S)
        except BaseException:
            recorder.stop(clock.now_ns(), "interrupted")
            recorder.finish()
            raise
        return recorder.finish()
    finally:
        rack.close()
