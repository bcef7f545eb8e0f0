"""What pages ask of that which is seen and heard."""

import time
from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import soxr

from kettle_core.errors import EngineError
from kettle_core.sound.background import measure_balance
from kettle_core.sound.levels import Sound
from kettle_core.sound.mixing import mix_sounds
from kettle_core.sound.shared import find_shared_voice
from kettle_core.sound.stage import RATE_HZ
from kettle_core.sound.tone import placed
from kettle_core.sound.voice_level import measure_voice, propose_gain_db
from kettle_engine.viewing.live import Live, Played, Tried
from kettle_engine.viewing.meter import KEPT_S
from kettle_engine.viewing.reading_watch import ReadingWatch
from kettle_engine.viewing.scene_pictures import pick_colour
from kettle_media.rig_document import SCENE
from kettle_media.sound.sound_file import write_sound_file

TRIED_FOR_S = 2.0
BALANCE_S = 12.0


class Commands:
    """Each takes the rig that is open and the command's values."""

    def __init__(self, data_dir: Path, identify: Callable[[], None]) -> None:
        self._data_dir = data_dir
        self._reading = ReadingWatch()
        self._known: dict[str, Callable[[Live, Mapping[str, Any]], Any]] = {
            "identify": lambda _live, _values: identify(),
            "hear": self._hear,
            "balance": self._balance,
            "shared": self._shared,
            "try_scene": self._try_scene,
            "show_scene": self._show_scene,
            "play_change": self._play_change,
            "pick_colour": self._pick_colour,
            "reading": lambda live, values: self._reading.ask(live, list(values["inputs"])),
        }

    def do(self, name: str, live: Live | None, values: Mapping[str, Any]) -> Any:
        """Do a command. Raises EngineError where no rig is open."""
        if live is None:
            if name == "reading":
                return {}
            raise EngineError("No rig is open, so nothing is seen. Reload the page.")
        return self._known[name](live, values)

    def _hear(self, live: Live, values: Mapping[str, Any]) -> dict[str, Any]:
        """Measure the last seconds of a sound and keep them as a file to listen to."""
        seconds = min(max(float(values["seconds"]), 1.0), KEPT_S)
        meter = live.meter(values["input"])
        sound = meter.last(seconds)
        rate_hz = meter.input.mode.sample_rate_hz
        level = measure_voice(soxr.resample(sound.T, rate_hz, RATE_HZ).T)
        proposed_db = propose_gain_db(level)
        folder = self._data_dir / "heard"
        folder.mkdir(exist_ok=True)
        name = Path(str(values["name"])).name
        write_sound_file(folder / f"{name}-raw.flac", sound, rate_hz)
        louder = placed(sound, replace(meter.input.tone, gain_db=proposed_db or 0.0))
        write_sound_file(folder / f"{name}-gain.flac", louder, rate_hz)
        heard_s = sound.shape[1] / rate_hz
        return {**vars(level), "seconds": heard_s, "proposed_gain_db": proposed_db}

    def _balance(self, live: Live, values: Mapping[str, Any]) -> dict[str, Any]:
        """Set the last seconds of voices against those of backgrounds, as they go into a mix.

        Voices and backgrounds are lists of [input, gain in dB].
        """
        mixed = [_last_mix(live, values[side]) for side in ("voices", "backgrounds")]
        length = min(sound.shape[1] for sound in mixed)
        # What was heard last lies at the end of both.
        voice, background = (sound[:, sound.shape[1] - length :] for sound in mixed)
        return vars(measure_balance(voice, background))

    def _shared(self, live: Live, values: Mapping[str, Any]) -> list[dict[str, Any]]:
        """Which others of some inputs have the voice of one in them, from the last seconds."""
        voice = _last_mix(live, [[values["input"], 0.0]])
        found = []
        for other in values["others"]:
            shared = find_shared_voice(voice, _last_mix(live, [[other, 0.0]]))
            if shared:
                found.append({"input": other, **vars(shared)})
        return found

    def _try_scene(self, live: Live, values: Mapping[str, Any]) -> None:
        """Show a scene as it would be, for a moment."""
        scene = SCENE.read_plain(values["scene"])
        live.tried = {**live.tried, scene.id: Tried(scene, time.monotonic() + TRIED_FOR_S)}

    def _show_scene(self, live: Live, values: Mapping[str, Any]) -> None:
        """Have the program show the scene that a take will begin with."""
        live.first_scene_id = live.rig.scene(str(values["scene"])).id

    def _play_change(self, live: Live, values: Mapping[str, Any]) -> None:
        """Show how a scene gives way to another one."""
        to_id = live.rig.scene(values["to"]).id
        live.played = Played(live.rig.scene(values["scene"]).id, to_id, time.monotonic())

    def _pick_colour(self, live: Live, values: Mapping[str, Any]) -> str:
        x, y = float(values["x"]), float(values["y"])
        return pick_colour(live, values["scene"], values["layer"], x, y)


def _last_mix(live: Live, sends: list[list[Any]]) -> Sound:
    sounds = []
    for input_id, gain_db in sends:
        meter = live.meter(input_id)
        came = placed(meter.last(BALANCE_S), meter.input.tone)
        rate_hz = meter.input.mode.sample_rate_hz
        if rate_hz != RATE_HZ:
            came = soxr.resample(came.T, rate_hz, RATE_HZ).T
        sounds.append((np.asarray(came, np.float32), float(gain_db)))
    length = min((s.shape[1] for s, _ in sounds), default=0)
    return mix_sounds([(s[:, s.shape[1] - length :], g) for s, g in sounds], length)
