"""Cleaned sounds of a take: an input through its whole chain, kept as long as nothing changes.

A chain remembers (what hum it found, how loud a voice has been), so it is only the same from any
place on when it is run through once; then it lies in the take's folder like a track of its own,
on record time at 48 kHz.
"""

import hashlib
import json
from dataclasses import asdict, replace

from kettle_core.rig.devices import Mode
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
LISTEN_S = 60
PIECE_SAMPLES = MASTER_HZ
_EVEN = ClockMap((Piece(0, 0.0, 0.0, 0),), 0.0)


def cleaned_sound(
    folder: TakeFolder,
    track: TrackInfo,
    sync: TakeSync,
    tone: Tone,
    samples: int,
    give_way: GiveWay,
) -> tuple[SoundTrack, RawTrack]:
    """A sound track through its chain, as it was kept or is made now; and what is to be closed.

    Raises
    ------
    TakeError
        If the track can't be read or the disk won't have what is made of it.
    """
    name = f"{track.name}-{_key(folder, track, sync, tone, samples)[:16]}"
    target = folder.cleaned_path / f"{name}.mkv"
    mode = Mode(sample_rate_hz=MASTER_HZ, channels=track.mode.channels)
    if not target.is_file():
        with Told(target, writing=True):
            folder.cleaned_path.mkdir(exist_ok=True)
            # What other values made is of no more use.
            for old in folder.cleaned_path.glob(f"{track.name}-????????????????.*"):
                old.unlink(missing_ok=True)
        part = target.with_name(f".{target.stem}.part.mkv")
        try:
            _clean(folder, track, sync, tone, samples, give_way, SoundWriter(part, mode))
            with Told(target, writing=True):
                put_in_place(part, target)
        finally:
            part.unlink(missing_ok=True)
    raw = RawTrack(target, mode.channels)
    return SoundTrack(raw, mode, _EVEN, 0, 0.0), raw


def _clean(
    folder: TakeFolder,
    track: TrackInfo,
    sync: TakeSync,
    tone: Tone,
    samples: int,
    give_way: GiveWay,
    writer: SoundWriter,
) -> None:
    sound, raw = open_sound(folder, track, sync, tone.delay_ms)
    try:
        heard = sound.read(0, LISTEN_S * MASTER_HZ) if tone.hum != "off" else None
        chain = tone_chain(tone, track.mode.channels, voice_keeper, heard)
        for first in range(0, samples, PIECE_SAMPLES):
            give_way()
            block = sound.read(first, min(PIECE_SAMPLES, samples - first))
            ready = chain.process(block)
            if ready.shape[1]:
                writer.write(ready, 0)
        rest = chain.flush()
        if rest.shape[1]:
            writer.write(rest, 0)
    finally:
        raw.close()
        writer.close()


def _key(folder: TakeFolder, track: TrackInfo, sync: TakeSync, tone: Tone, samples: int) -> str:
    """Of all that the sound hangs on. Where it lies between left and right is the mix's."""
    found = sync.of(track.name)
    size = folder.track_path(track).stat().st_size
    chain = asdict(replace(tone, pan=0.0))
    clock = [asdict(piece) for piece in found.clock.pieces]
    known = [VERSION, size, samples, chain, found.latency_ms, sync.start_ns, clock]
    return hashlib.sha256(json.dumps(known).encode()).hexdigest()
