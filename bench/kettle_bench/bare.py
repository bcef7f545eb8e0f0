"""The encoders alone: what recording the demo rig costs at the least."""

import threading
import time
from collections.abc import Callable
from multiprocessing import get_context
from pathlib import Path
from typing import Any

from kettle_core.errors import KettleError
from kettle_core.rig.encoder_settings import track_settings
from kettle_core.rig.frame_choice import FrameChoice
from kettle_core.rig.rig import Input
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.clock import WallClock
from kettle_engine.devices.registry import BUILT_IN, STUDIO
from kettle_engine.hosts import Hosts
from kettle_engine.process import work_frame_by_frame
from kettle_engine.rings.places import RingPlaces
from kettle_engine.rings.ring import RingReader
from kettle_media.priority import RECORDS, rank
from kettle_media.take.tracks import PictureWriter, SoundWriter
from kettle_studio.demo import demo_rig

# A whole lesson, so that the encoders see what the recorder sees.
BARE_S, WARM_S = 64, 8
# Of what an encoder lost it counts what it would have taken; no more of it than this.
MOST_LOST = 0.05
LOOK_EVERY_S, HEAR_EVERY_S, LIVE_WITHIN_S = 0.005, 0.05, 60.0
MOST_S = 4 * BARE_S


def bare_cores(folder: Path) -> float:
    """Cores that the encoders alone need for the demo rig, fed the studio's captures as they come.

    As they come: a core that rests between two frames works more slowly than one that does not.
    They are in a process that ranks as the recorder does, the devices in one of their own, as in
    the engine. `folder` is for what they write. Raises KettleError if they lost captures.
    """
    folder.mkdir(exist_ok=True)
    # A pool ends its process at once where this one is told to end.
    with get_context("spawn").Pool(1) as pool:
        return pool.apply_async(_encode, (folder,)).get(MOST_S)


def _encode(folder: Path) -> float:
    rank(RECORDS)
    work_frame_by_frame()
    clock = WallClock()
    places = RingPlaces(folder)
    hosts = Hosts({STUDIO: BUILT_IN[STUDIO]}, folder, places, clock.base_ns)
    try:
        recorded = [i for i in demo_rig().inputs if i.has_track]
        hosts.tell_inputs(recorded)
        hosts.tell_wanted(frozenset(i.id for i in recorded), frozenset())
        deadline_s = time.monotonic() + LIVE_WITHIN_S
        _hear(hosts, lambda: time.monotonic() > deadline_s or not hosts.waited_for(recorded))
        if missing := hosts.waited_for(recorded):
            raise KettleError(f"{' and '.join(missing)} did not open, so nothing was measured.")
        begin_ns = clock.now_ns() + WARM_S * NS_PER_S
        encoders = [_Encoder(folder, i, hosts.reports[i.id].ring, begin_ns) for i in recorded]
        _hear(hosts, lambda: not any(encoder.is_alive() for encoder in encoders))
    finally:
        hosts.children[STUDIO].kill()
        places.clear()
    if lost := sum(encoder.lost for encoder in encoders if encoder.lost_part > MOST_LOST):
        raise KettleError(f"The bare encoders lost {lost} captures, so nothing was measured.")
    return sum(encoder.used_s / (1 - encoder.lost_part) for encoder in encoders) / BARE_S


def _hear(hosts: Hosts, is_done: Callable[[], bool]) -> None:
    """Hear the devices' process until something is done."""
    while not is_done():
        for word, *values in hosts.children[STUDIO].messages():
            if word == "sources":
                hosts.report(STUDIO, *values)
        time.sleep(HEAR_EVERY_S)


class _Encoder(threading.Thread):
    """Encodes what comes of one input, and counts nothing but that."""

    def __init__(self, folder: Path, item: Input, ring: str, begin_ns: int) -> None:
        super().__init__(daemon=True)
        self.used_s, self.lost, self._came = 0.0, 0, 0
        # The frames that a track has: still pictures are repeated now and then.
        self._choice = FrameChoice(demo_rig().track_of(item), item.mode)
        self._is_picture = item.is_picture
        self._reader, self._begin_ns = RingReader(Path(ring)), begin_ns
        path = folder / f"{item.id}.mkv"
        self._writer: Any = (
            PictureWriter(path, item.mode, track_settings(item.mode, demo_rig().track_of(item)))
            if item.is_picture
            else SoundWriter(path, item.mode)
        )
        self.start()

    def run(self) -> None:
        """Encode until the lesson is over."""
        at_ns = 0
        while at_ns < BARE_S * NS_PER_S:
            got = self._reader.read()
            if got is None:
                time.sleep(LOOK_EVERY_S)
                continue
            at_ns = got.master_ns - self._begin_ns
            if at_ns < 0:
                continue
            self._came += 1 + got.lost + got.missed
            self.lost += got.lost + got.missed
            if not self._is_picture or self._choice.wants(got.changed, at_ns, got.duration_ns):
                self._write(got.fetch(), at_ns)
        self._writer.close()

    @property
    def lost_part(self) -> float:
        """What part of the captures was lost."""
        return self.lost / max(1, self._came)

    def _write(self, data: Any, at_ns: int) -> None:
        if data is None:
            self.lost += 1
            return
        began_s = time.thread_time()
        self._writer.write(data, at_ns)
        self.used_s += time.thread_time() - began_s
        self._choice.written(at_ns)
