"""Hum of one line: how far it goes down, and that sounds without hum lose nothing."""

from collections.abc import Iterator
from pathlib import Path

import numpy as np

from kettle_core.assembly.beds import BEDS, bed
from kettle_core.sound.hum import HumFilter
from kettle_core.sound.levels import Sound
from kettle_core.sound.stage import RATE_HZ
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.recording.take import record_take
from kettle_media.sound.sound_file import SoundFile
from kettle_media.take.folder import TakeFolder
from kettle_studio.demo import demo_rig
from kettle_studio.driver import Studio

SECONDS, SETTLED_S = 14, 8
# Below the voice; by how much it must go down, and what nothing may lose, in dB.
BELOW_DB, DOWN_DB, LOST_DB = 5.0, 25.0, 0.5
SEEDS = (11, 12, 13, 14)
# In the laptop's microphone it hums.
HEARD = ("headset", "system")


def hum_faults(room: Path) -> Iterator[tuple[str, list[str]]]:
    """What is wrong of each sample: voices and system audio of the studio, and music."""
    for name, sound in _samples(room):
        wrong = []
        for mains_hz in (50, 60):
            lost_db = _db(sound) - _db(_without_hum(sound, mains_hz))
            if abs(lost_db) > LOST_DB:
                wrong.append(f"{lost_db:.1f} dB of it are gone at {mains_hz} Hz")
        if name.startswith("voice"):
            wrong += list(_with_line(sound))
        yield f"hum, {name}", wrong


def _with_line(voice: Sound) -> Iterator[str]:
    at_s = np.arange(voice.shape[1]) / RATE_HZ
    size = 2**0.5 * 10 ** ((_db(voice) - BELOW_DB) / 20)
    for hz in (49.9, 50.0, 60.05, 100.0):
        mains_hz = 60 if 55 < hz < 65 else 50
        line = (size * np.sin(2 * np.pi * hz * at_s)).astype(np.float32)
        out = _without_hum(voice + line, mains_hz)
        turns = np.exp(-2j * np.pi * hz * at_s)[SETTLED_S * RATE_HZ :]
        was, left, own = (
            float(np.abs(np.mean(sound.mean(axis=0)[SETTLED_S * RATE_HZ :] * turns)))
            for sound in (line[None], out, voice)
        )
        down_db = 20 * np.log10(was / max(left, 1e-9))
        # Of the voice something may lie there too.
        if down_db < DOWN_DB and left > 2 * own:
            yield f"a line at {hz} Hz goes down by {down_db:.0f} dB"


def _without_hum(sound: Sound, mains_hz: int) -> Sound:
    stage = HumFilter(sound.shape[0], mains_hz)
    return np.concatenate([stage.process(sound), stage.flush()], axis=1)


def _db(sound: Sound) -> float:
    return float(10 * np.log10(np.mean(np.square(sound, dtype=np.float64)) + 1e-12))


def _samples(room: Path) -> Iterator[tuple[str, Sound]]:
    for name in BEDS:
        yield f"music, {name}", bed(name)[:, : SECONDS * RATE_HZ]
    rig = demo_rig()
    for seed in SEEDS:
        folder = TakeFolder(room / f"heard-{seed}")
        record_take(Studio(seed), rig, folder.path, SECONDS * NS_PER_S)
        for track in folder.read_info().tracks:
            if track.name in HEARD:
                kind = "voice" if track.kind == "microphone" else track.kind
                yield (
                    f"{kind}, {track.name} {seed}",
                    SoundFile(folder.track_path(track)).read_whole(),
                )
