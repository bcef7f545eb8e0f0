"""What can be seen and heard of a take at any time: tracks, stills, masks, cleaned sounds."""

import hashlib
import json
from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict, replace

import numpy as np
from numpy.typing import NDArray

from kettle_core.picture.picture import Picture, Plane
from kettle_core.rig.rig import Rig
from kettle_core.sound.levels import Sound
from kettle_core.sound.tone import Tone, placed
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.memory import give_memory_back
from kettle_media.program.cleaned import CleanedSound, Heard
from kettle_media.rig.stills import masks_of, read_still
from kettle_media.take.align import GiveWay, go_on, open_sound
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TakeInfo
from kettle_media.take.picture_track import PictureTrack
from kettle_media.take.rig_now import rig_now
from kettle_media.take.sound_track import MASTER_HZ, RawTrack
from kettle_media.take.sync_report import TakeSync


class TakeSources:
    """The tracks of a take on record time, opened when they are first asked for.

    Pictures and sounds may be asked for by two threads, each its own. `at_once` sounds that were
    not cleaned yet are cleaned from where they are asked for on, which is nearly the same.
    """

    def __init__(
        self,
        folder: TakeFolder,
        info: TakeInfo,
        sync: TakeSync,
        give_way: GiveWay = go_on,
        at_once: bool = False,
    ) -> None:
        self._folder, self._info, self._sync = folder, info, sync
        self._give_way, self._at_once = give_way, at_once
        # After a jump every track is decoded from its keyframe on: beside each other.
        self._beside = ThreadPoolExecutor(thread_name_prefix="decode") if at_once else None
        self.rig = recorded_rig(folder, info, sync)
        self.stills = read_stills(folder, self.rig)
        self._sizes = {i.id: i.size for i in self.rig.inputs}
        self._pictures: dict[str, PictureTrack] = {}
        self._sounds: dict[tuple[str, Tone], tuple[Heard, RawTrack]] = {}

    @property
    def length_ns(self) -> int:
        """How long the take is; of one that was cut off, as long as something was recorded."""
        if self._info.duration_ns:
            return self._info.duration_ns
        recorded = max((c[-1] for c in self._sync.captured_ns.values() if c.size), default=0.0)
        return int(recorded)

    def pictures(self, inputs: Iterable[str], record_ns: float) -> dict[str, Picture]:
        """The pictures of inputs at a record time; those that were not recorded are left out."""
        names = list(inputs)
        found = {name: self.stills[name] for name in names if name in self.stills}
        tracks = [n for n in names if n in self._sync.captured_ns and n not in found]
        opened = [self._track(name) for name in tracks]
        seen = (self._beside.map if self._beside else map)(lambda t: t.at(record_ns), opened)
        return found | dict(zip(tracks, seen, strict=True))

    def _track(self, name: str) -> PictureTrack:
        if name not in self._pictures:
            track = self._info.track(name)
            size, scaling = self._sizes[name], self.rig.format.scaling
            opened = PictureTrack(self._folder, track, self._sync, size, scaling)
            self._pictures[name] = opened
            # The times of hours take much while they are read.
            give_memory_back()
        return self._pictures[name]

    def sound(self, input_id: str, tone: Tone, first: int, count: int) -> Sound:
        """(channels, count) of an input through its chain, from a sample of record time on."""
        key = (input_id, tone)
        if key not in self._sounds:
            track = self._info.track(input_id)
            opened: tuple[Heard, RawTrack] | None
            if tone.cleans:
                length = round(self.length_ns * MASTER_HZ / NS_PER_S)
                cleaned = CleanedSound(self._folder, track, self._sync, tone, length)
                opened = cleaned.kept() if self._at_once else cleaned.made(self._give_way)
                opened = opened or cleaned.from_anywhere()
            else:
                opened = open_sound(self._folder, track, self._sync, tone.delay_ms)
            self._sounds[key] = opened
        heard: NDArray[np.float32] = self._sounds[key][0].read(first, count)
        return heard if tone.cleans else placed(heard, tone)

    def masks(self) -> dict[str, Plane]:
        """Pictures that the take's masks use, by their names in the rig's library."""
        return masks_of(self.rig.scenes, self._folder.stills_path)

    def identity(self) -> str:
        """A text that is another one when any picture of the take could be."""
        digest = hashlib.sha256(self._info.id.encode())
        for track in self._sync.tracks:
            path = self._folder.track_path(self._info.track(track.name))
            size = path.stat().st_size if path.is_file() else 0
            known = [track.name, size, track.latency_ms, [asdict(p) for p in track.clock.pieces]]
            digest.update(json.dumps(known).encode())
        if self._folder.stills_path.is_dir():
            for still in sorted(self._folder.stills_path.iterdir()):
                digest.update(still.name.encode() + still.read_bytes())
        return digest.hexdigest()

    def close(self) -> None:
        """Close what was opened."""
        if self._beside:
            self._beside.shutdown()
        self.rest()

    def rest(self) -> None:
        """Close the tracks; they are opened again when they are asked for."""
        for track in self._pictures.values():
            track.close()
        for _, raw in self._sounds.values():
            raw.close()
        self._pictures, self._sounds = {}, {}


def recorded_rig(folder: TakeFolder, info: TakeInfo, sync: TakeSync) -> Rig:
    """The take's rig with everything off that was not recorded."""
    rig, _ = rig_now(folder, info)
    known = sync.captured_ns.keys()
    inputs = (
        replace(i, on=i.on and (i.id in known or (i.is_still and _has_still(folder, i.id))))
        for i in rig.inputs
    )
    return replace(rig, inputs=tuple(inputs))


def _has_still(folder: TakeFolder, input_id: str) -> bool:
    return (folder.stills_path / f"{input_id}.png").is_file()


def read_stills(folder: TakeFolder, rig: Rig) -> dict[str, Picture]:
    """Pictures and text cards of a take, by their inputs' ids."""
    found = {}
    for item in rig.inputs:
        picture = read_still(folder.stills_path / f"{item.id}.png") if item.is_still else None
        if picture:
            found[item.id] = picture
    return found
