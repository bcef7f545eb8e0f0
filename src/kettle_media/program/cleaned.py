"""Cleaned sounds of a take: an input through its whole chain, kept as long as nothing changes.

A chain remembers (what hum it found, how loud a voice has been), so it is only the same from any
place on when it is run through once; then it lies in the take's folder like a track of its own,
on record time at 48 kHz.
"""

import hashlib
import json
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Protocol

import numpy as np

from kettle_core.rig.devices import Mode
from kettle_core.sound.levels import Sound
from kettle_core.sound.stage import Chain
from kettle_core.sound.tone import Tone, tone_chain
from kettle_core.timing.clock_map import ClockMap, Piece
from kettle_media.durable import put_in_place
from kettle_media.sound.suppressors import voice_keeper
from kettle_media.take.align import GiveWay, open_sound
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TrackInfo
from kettle_media.take.sound_track import MASTER_HZ, RawTrack, SoundTrack
from kettle_media.take.sync_report import TakeSync
from kettle_media.take.tracks import SoundWriter
from kettle_media.told import Told

VERSION = 1
# So much is listened to for hum, all in all and where a sound is cleaned from anywhere on.
LISTEN_S, HUM_S = 60, 8
PIECE_SAMPLES = MASTER_HZ
WARM_SAMPLES = 2 * MASTER_HZ
_EVEN = ClockMap((Piece(0, 0.0, 0.0, 0),), 0.0)


class Heard(Protocol):
    """A sound on record time."""

    def read(self, first: int, count: int) -> Sound:
        """(channels, count) from a sample at 48 kHz on."""
        ...


@dataclass(frozen=True)
class CleanedSound:
    """A sound track of a take through a chain, `samples` long."""

    folder: TakeFolder
    track: TrackInfo
    sync: TakeSync
    tone: Tone
    samples: int

    def kept(self) -> tuple[SoundTrack, RawTrack] | None:
        """As it was kept, and what is to be closed; None before it was made."""
        return self._read() if self._target.is_file() else None

    def made(self, give_way: GiveWay) -> tuple[SoundTrack, RawTrack]:
        """As it was kept or is made now, and what is to be closed.

        Raises
        ------
        TakeError
            If the track can't be read or the disk won't have what is made of it.
        """
        target = self._target
        with Told(target, writing=True):
            self.folder.cleaned_path.mkdir(exist_ok=True)
        # Who cleans the same take is waited for; it may be this very sound.
        with self.folder.alone(give_way, place=self.folder.cleaned_path):
            if not target.is_file():
                self._make(target, give_way)
            return self._read()

    def _make(self, target: Path, give_way: GiveWay) -> None:
        # What other values made is of no more use, and nor is what was left half made.
        name = self.track.name
        part = target.with_name(f".{target.stem}.part.mkv")
        with Told(target, writing=True):
            for pattern in (f"{name}-????????????????.*", f".{name}-*.part.*"):
                for old in self.folder.cleaned_path.glob(pattern):
                    old.unlink(missing_ok=True)
        try:
            self._clean(give_way, SoundWriter(part, self._mode))
            with Told(target, writing=True):
                put_in_place(part, target)
        finally:
            part.unlink(missing_ok=True)

    def from_anywhere(self) -> tuple["CleanedFrom", RawTrack]:
        """Cleaned while it is read, and what is to be closed."""
        sound, raw = self._opened()
        return CleanedFrom(sound, self.tone, self._mode.channels), raw

    @property
    def _mode(self) -> Mode:
        return Mode(sample_rate_hz=MASTER_HZ, channels=self.track.mode.channels)

    @property
    def _target(self) -> Path:
        return self.folder.cleaned_path / f"{self.track.name}-{self._key()[:16]}.mkv"

    def _read(self) -> tuple[SoundTrack, RawTrack]:
        raw = RawTrack(self._target, self._mode.channels)
        return SoundTrack(raw, self._mode, _EVEN, 0, 0.0), raw

    def _opened(self) -> tuple[SoundTrack, RawTrack]:
        return open_sound(self.folder, self.track, self.sync, self.tone.delay_ms)

    def _clean(self, give_way: GiveWay, writer: SoundWriter) -> None:
        sound, raw = self._opened()
        try:
            chain = _chain(self.tone, self._mode.channels, sound, 0, LISTEN_S)
            for first in range(0, self.samples, PIECE_SAMPLES):
                give_way()
                block = sound.read(first, min(PIECE_SAMPLES, self.samples - first))
                ready = chain.process(block)
                if ready.shape[1]:
                    writer.write(ready, 0)
            rest = chain.flush()
            if rest.shape[1]:
                writer.write(rest, 0)
        finally:
            raw.close()
            writer.close()

    def _key(self) -> str:
        """Of all that the sound hangs on. Where it lies between left and right is the mix's."""
        found = self.sync.of(self.track.name)
        size = self.folder.track_path(self.track).stat().st_size
        chain = asdict(replace(self.tone, pan=0.0))
        clock = [asdict(piece) for piece in found.clock.pieces]
        known = [VERSION, size, self.samples, chain, found.latency_ms, self.sync.start_ns, clock]
        return hashlib.sha256(json.dumps(known).encode()).hexdigest()


class CleanedFrom:
    """A sound through a chain that begins a little before the place that is asked for first.

    Read on from there the chain goes on; elsewhere it begins anew. What a chain learns over a
    long time (how loud a voice is) it has then heard less of than one that began at the start.
    """

    def __init__(self, sound: Heard, tone: Tone, channels: int) -> None:
        self._sound, self._tone, self._channels = sound, tone, channels
        self._chain: Chain | None = None
        self._next = 0  # the sample that the chain takes next
        self._first = 0  # that of the first one in `_ready`
        self._ready: Sound = np.zeros((channels, 0), np.float32)

    def read(self, first: int, count: int) -> Sound:
        """(channels, count) from a sample at 48 kHz on."""
        if self._chain is None or not self._first <= first <= self._next:
            self._begin(min(first, max(0, first - WARM_SAMPLES)))
        while self._first + self._ready.shape[1] < first + count:
            self._go_on(PIECE_SAMPLES // 4)
            drop = min(max(0, first - self._first), self._ready.shape[1])
            self._ready, self._first = self._ready[:, drop:], self._first + drop
        skipped = first - self._first
        return self._ready[:, skipped : skipped + count].copy()

    def _begin(self, at: int) -> None:
        self._chain = _chain(self._tone, self._channels, self._sound, at, HUM_S)
        self._next = self._first = at
        self._ready = np.zeros((self._channels, 0), np.float32)

    def _go_on(self, samples: int) -> None:
        if self._chain is None:
            return
        made = self._chain.process(self._sound.read(self._next, samples))
        self._next += samples
        self._ready = np.concatenate([self._ready, made], axis=1)


def _chain(tone: Tone, channels: int, sound: Heard, at: int, listen_s: int) -> Chain:
    """The chain of a sound that goes in from a sample on; of hum it knows what will come."""
    heard = sound.read(at, listen_s * MASTER_HZ) if tone.hum != "off" else None
    return tone_chain(tone, channels, voice_keeper, heard)
