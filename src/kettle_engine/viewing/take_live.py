"""What pages see and hear of a take in place of devices: its tracks at the play head."""

import threading
import time
from collections.abc import Sequence
from dataclasses import replace
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from kettle_core.rig.devices import Mode
from kettle_core.rig.rig import Input, Rig
from kettle_core.sound.tone import Tone
from kettle_core.timing.ticks import NS_PER_S
from kettle_core.timing.time_map import Source, TimeMap
from kettle_engine.viewing.live import Live, Newest
from kettle_engine.viewing.meter import KEPT_S, Meter
from kettle_engine.viewing.watch import InputState
from kettle_media.program.sources import TakeSources
from kettle_media.take.afterwards import follow_cues
from kettle_media.take.align import align_take
from kettle_media.take.folder import TakeFolder
from kettle_media.take.sound_track import MASTER_HZ

# While it plays, sounds are given to the meters in pieces of this length.
PIECE_SAMPLES = MASTER_HZ // 25
LEAST_S = 12
RAW = Tone()


class TakeLive(Live):
    """Pictures stand at the play head; sounds are those that lie just before it.

    The viewer's thread and those that answer pages may ask at once.

    Raises
    ------
    TakeError
        If the take can't be read.
    """

    def __init__(self, folder: TakeFolder) -> None:
        info = folder.read_info()
        sync = align_take(folder, info, info.damaged, at_once=True)
        self._take = TakeSources(folder, info, sync, at_once=True)
        super().__init__(folder.stills_path, self._take.rig)
        source = Source("take", info.id)
        said = follow_cues(folder, self._take.rig)
        self._time: TimeMap = said.take_time(source, self._take.length_ns)
        self._at_once = threading.Lock()
        self._at_s = 0.0
        self._since: float | None = None
        self._shown: dict[str, tuple[int, Newest]] = {}
        self._fed: dict[str, int] = {}
        self.set_rig(self._take.rig, (), "")

    def go(self, at_s: float, playing: bool) -> None:
        """Have the play head at a take time, standing or moving on from there."""
        self._at_s, self._since = at_s, time.monotonic() if playing else None

    @property
    def record_ns(self) -> int:
        """The record time of the play head."""
        since_s = time.monotonic() - self._since if self._since is not None else 0.0
        length = self._time.length_ns
        at_ns = Fraction(round((self._at_s + since_s) * NS_PER_S))
        found = self._time.source_at(min(max(Fraction(0), at_ns), length - 1)) if length else None
        return int(found[1]) if found else 0

    def set_rig(self, rig: Rig, inputs: Sequence[Input], owner: str) -> None:
        """Show the take with another rig of the same inputs; `inputs` are the rig's own."""
        there = {i.id for i in self._take.rig.inputs if i.on}
        rig = replace(rig, inputs=tuple(replace(i, on=i.on and i.id in there) for i in rig.inputs))
        if rig != self.rig:
            self.tried = {}
        self.rig, self.owner = rig, owner or self.owner
        for item in rig.inputs:
            if item.on and not item.is_picture:
                mode = Mode(sample_rate_hz=MASTER_HZ, channels=item.mode.channels)
                as_read = replace(item, mode=mode)
                known = self.meters.setdefault(item.id, Meter(as_read))
                known.input = as_read
        self.inputs = {i.id: i for i in rig.inputs if i.on}

    def newest(self, name: str) -> Newest | None:
        """The picture of an input at the play head; another number is another picture."""
        item = self.inputs.get(name)
        if item is None or not item.is_picture:
            return None
        at_ns = self.record_ns
        with self._at_once:
            known = self._shown.get(name)
            if known and known[0] == at_ns:
                return known[1]
            picture = self._take.pictures([name], at_ns).get(name)
            if picture is None:
                return None
            same = known is not None and known[1].picture is picture
            newest = known[1] if known and same else Newest(picture, hash((name, at_ns)))
            self._shown[name] = (at_ns, newest)
            return newest

    def read_sounds(self) -> None:
        """Give the meters what lies between where they are and the play head."""
        if self._since is not None:
            for name in list(self.meters):
                self._feed(name)

    def meter(self, name: str) -> Meter:
        """The meter of a sound, which has heard what lies before the play head."""
        super().meter(name)
        self._feed(name)
        return self.meters[name]

    def states(self, now_s: float) -> dict[str, InputState]:
        """Every input is as it was recorded."""
        return {name: InputState("live", "from the take") for name in self.inputs}

    def close(self) -> None:
        """Close the take's tracks."""
        self._take.close()

    def _feed(self, name: str) -> None:
        with self._at_once:
            until = self.record_ns * MASTER_HZ // NS_PER_S
            if self._since is None:
                # Near the beginning what comes first, as there is nothing before it.
                length = self._take.length_ns * MASTER_HZ // NS_PER_S
                until = max(until, min(LEAST_S * MASTER_HZ, length))
            at = self._fed.get(name, until + 1)
            if not 0 <= until - at <= KEPT_S * MASTER_HZ:
                # Somewhere else: what came before there is what was heard last.
                at = max(0, until - KEPT_S * MASTER_HZ)
                self.meters[name] = Meter(self.meters[name].input)
            while until - at >= PIECE_SAMPLES:
                self.meters[name].take(self._raw(name, at))
                at += PIECE_SAMPLES
            self._fed[name] = at

    def _raw(self, name: str, first: int) -> NDArray[np.float32]:
        return np.asarray(self._take.sound(name, RAW, first, PIECE_SAMPLES), np.float32)
