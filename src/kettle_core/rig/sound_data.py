"""What a rig says of its sounds as plain data: written, and read back with every field checked."""

from typing import Any, get_args

from kettle_core.rig.reader import Reader
from kettle_core.sound.auto_gain import TARGET_LIMITS_LUFS
from kettle_core.sound.background import DUCKING_LIMITS, Ducking
from kettle_core.sound.routing import MAX_STEMS, Send, Stem
from kettle_core.sound.shaping import Downmix
from kettle_core.sound.suppression import ENGINES
from kettle_core.sound.tone import HUM_CHOICES, Tone
from kettle_core.sound.voice_level import DELAY_LIMITS_MS, GAIN_LIMITS_DB

SEND_LIMITS_DB = (-60.0, 20.0)


def stem_to_dict(track: Stem) -> dict[str, Any]:
    """A stem as plain data."""
    return {
        "id": track.id,
        "name": track.name,
        "channels": track.channels,
        "sends": [{"input": s.input_id, "gain_db": s.gain_db} for s in track.sends],
    }


def read_sounds_together(reader: Reader, version: int) -> dict[str, Any]:
    """Stems and ducking of a rig, by their names there. Raises RigError."""
    ducking = reader.part("ducking")
    limits = DUCKING_LIMITS.items()
    name = "stems" if version >= 5 else "sound_tracks"
    return {
        "stems": tuple(_read_stem(r) for r in reader.rows(name, MAX_STEMS)),
        "ducking": Ducking(
            ducking.truth("on"), *(ducking.decimal(name, *limit) for name, limit in limits)
        ),
    }


def _read_stem(reader: Reader) -> Stem:
    sends = tuple(
        Send(r.key("input"), r.decimal("gain_db", *SEND_LIMITS_DB))
        for r in reader.rows("sends", 64)
    )
    return Stem(reader.key("id"), reader.text("name"), reader.number("channels", 1, 2), sends)


def read_tone(reader: Reader, version: int) -> Tone:
    """The chain of a sound. Raises RigError."""
    gain_db = reader.decimal("gain_db", *GAIN_LIMITS_DB)
    delay_ms = reader.decimal("delay_ms", *DELAY_LIMITS_MS)
    if version < 4:
        return Tone(gain_db, "mid" if reader.truth("mono") else "stereo", delay_ms)
    downmix: Any = reader.choice("downmix", get_args(Downmix))
    return Tone(
        gain_db=gain_db,
        downmix=downmix,
        delay_ms=delay_ms,
        pan=reader.decimal("pan", -1, 1),
        hum=reader.choice("hum", HUM_CHOICES),
        suppression=reader.number("suppression", 0, 100),
        engine=reader.choice("engine", ENGINES),
        low_cut=reader.truth("low_cut"),
        echo=reader.number("echo", 0, 100),
        auto_gain=reader.truth("auto_gain"),
        target_lufs=reader.decimal("target_lufs", *TARGET_LIMITS_LUFS),
        limiter=reader.truth("limiter"),
    )
