"""The engine's process: answers commands, repairs what a crash left behind.

Start it with `python -m kettle_engine.server DATA_FOLDER`.
"""

import json
import os
import signal
import sys
import threading
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import soxr
import zmq

from kettle_core.errors import EngineError, KettleError
from kettle_core.first_rig import rig_of_devices
from kettle_core.hearing import measure_voice, propose_gain_db
from kettle_core.reader import Reader
from kettle_core.rig_data import VERSION, rig_from_dict, rig_to_dict
from kettle_core.scene_data import read_scene
from kettle_core.sound import filters
from kettle_core.sound.background import measure_balance
from kettle_core.sound.levels import Sound
from kettle_core.sound.mixing import mix_sounds
from kettle_core.sound.shared import find_shared_voice
from kettle_core.sound.stage import RATE_HZ
from kettle_core.sound.tone import placed
from kettle_engine.client import EngineClient
from kettle_engine.clock import WallClock
from kettle_engine.drivers import Drivers
from kettle_engine.engine import Engine, Live, Played, Tried
from kettle_engine.meter import KEPT_S
from kettle_engine.process import work_frame_by_frame
from kettle_engine.protocol import (
    command_address,
    device_to_dict,
    live_address,
    socket_folder,
)
from kettle_engine.publisher import Publisher, machine_status
from kettle_engine.reading_watch import ReadingWatch
from kettle_engine.scene_pictures import pick_colour
from kettle_media.file_driver import FileDriver
from kettle_media.repair import find_unfinished, repair_take
from kettle_media.sound_file import write_sound_file
from kettle_media.take_folder import free_bytes
from kettle_studio.driver import Studio

TRIED_FOR_S = 2.0
BALANCE_S = 12.0


class Server:
    """Commands as JSON objects: {"do": NAME, …} gives {"ok": …} or {"error": SENTENCE}."""

    def __init__(self, data_dir: Path) -> None:
        self._data_dir = data_dir
        self._takes = data_dir / "takes"
        self._takes.mkdir(parents=True, exist_ok=True)
        folder = socket_folder(data_dir)
        folder.mkdir(mode=0o700, exist_ok=True)
        self._socket: zmq.Socket[bytes] = zmq.Context.instance().socket(zmq.REP)
        self._bind(command_address(data_dir))
        self.repaired = [self._repair(f) for f in find_unfinished(self._takes)]
        self._studio = Studio()
        self._drivers = Drivers(self._studio, FileDriver(data_dir / "material"))
        self._engine = Engine(self._drivers, WallClock(), data_dir / "pictures")
        self._ending = threading.Event()
        self._warming = threading.Thread(target=self._warm_up, name="warm up")
        self._warming.start()
        self._publisher = Publisher(self._engine, live_address(data_dir), self._more_status)
        self._reading_watch = ReadingWatch()
        self._running = True
        self._commands: dict[str, Callable[[dict[str, Any]], Any]] = {
            "hello": lambda _: {"pid": os.getpid(), "repaired": self.repaired},
            "devices": lambda _: self._devices(),
            "surroundings": self._surroundings,
            "switch": self._switch,
            "studio": lambda _: self._studio_state(),
            "fault": self._fault,
            "identify": lambda _: self._publisher.identify(),
            "hear": self._hear,
            "balance": self._balance,
            "shared": self._shared,
            "propose_rig": self._propose_rig,
            "open_rig": self._open_rig,
            "try_scene": self._try_scene,
            "play_change": self._play_change,
            "pick_colour": self._pick_colour,
            "reading": self._reading,
            "record": self._record,
            "stop": lambda _: self._engine.call(self._engine.stop),
            "status": lambda _: {**self._engine.status(), **self._more_status()},
            "quit": self._quit,
        }

    def _warm_up(self) -> None:
        self._studio.warm_up(self._ending.is_set)
        filters.load()

    def _bind(self, address: str) -> None:
        try:
            found = EngineClient(self._data_dir, timeout_ms=400).ask("hello")
        except EngineError:
            self._socket.bind(address)
            return
        raise EngineError(f"An engine runs for {self._data_dir} already (process {found['pid']}).")

    def _repair(self, folder: Any) -> dict[str, Any]:
        try:
            info = repair_take(folder)
            return {"folder": str(folder.path), "notes": info.notes}
        except (KettleError, OSError) as error:
            return {"folder": str(folder.path), "notes": [f"Repair failed: {error}"]}

    def _more_status(self) -> dict[str, Any]:
        return machine_status(free_bytes(self._takes))

    def _devices(self) -> list[dict[str, Any]]:
        """Every device, with what the engine sees or hears of those that it has open."""
        words = self._engine.call(self._engine.device_states)
        found = [device_to_dict(d) for d in self._drivers.list_devices()]
        return [{**d, "words": words.get(d["id"], "")} for d in found]

    def _surroundings(self, command: dict[str, Any]) -> list[dict[str, Any]]:
        return [vars(found) for found in self._drivers.surroundings(command["device"])]

    def _switch(self, command: dict[str, Any]) -> None:
        device, key, on = command["device"], command["key"], bool(command["on"])
        self._drivers.switch_surrounding(device, key, on)

    def _studio_state(self) -> dict[str, Any]:
        """Faults of the simulated devices and switches of the simulated computer."""
        devices = [
            {**device_to_dict(info), "faults": faults} for info, faults in self._studio.faults()
        ]
        return {"devices": devices, "switches": vars(self._studio.switches)}

    def _fault(self, command: dict[str, Any]) -> None:
        if command["fault"] == "clock":
            self._studio.jump_clock(command["device"])
        else:
            self._studio.set_fault(command["device"], command["fault"], bool(command["on"]))

    def _hear(self, command: dict[str, Any]) -> dict[str, Any]:
        """Measure the last seconds of a sound and keep them as a file to listen to."""
        seconds = min(max(float(command["seconds"]), 1.0), KEPT_S)
        meter = self._engine.meter(command["input"])
        sound = meter.last(seconds)
        rate_hz = meter.input.mode.sample_rate_hz
        level = measure_voice(sound, rate_hz)
        proposed_db = propose_gain_db(level)
        folder = self._data_dir / "heard"
        folder.mkdir(exist_ok=True)
        name = Path(str(command["name"])).name
        write_sound_file(folder / f"{name}-raw.flac", sound, rate_hz)
        louder = placed(sound, replace(meter.input.tone, gain_db=proposed_db or 0.0))
        write_sound_file(folder / f"{name}-gain.flac", louder, rate_hz)
        heard_s = sound.shape[1] / rate_hz
        return {**vars(level), "seconds": heard_s, "proposed_gain_db": proposed_db}

    def _balance(self, command: dict[str, Any]) -> dict[str, Any]:
        """Set the last seconds of voices against those of backgrounds, as they go into a mix.

        Voices and backgrounds are lists of [input, gain in dB].
        """
        mixed = [self._last_mix(command[side]) for side in ("voices", "backgrounds")]
        length = min(sound.shape[1] for sound in mixed)
        # What was heard last lies at the end of both.
        voice, background = (sound[:, sound.shape[1] - length :] for sound in mixed)
        return vars(measure_balance(voice, background))

    def _shared(self, command: dict[str, Any]) -> list[dict[str, Any]]:
        """Which others of some inputs have the voice of one in them, from the last seconds."""
        voice = self._last_mix([[command["input"], 0.0]])
        found = []
        for other in command["others"]:
            shared = find_shared_voice(voice, self._last_mix([[other, 0.0]]))
            if shared:
                found.append({"input": other, **vars(shared)})
        return found

    def _last_mix(self, sends: list[list[Any]]) -> Sound:
        sounds = []
        for input_id, gain_db in sends:
            meter = self._engine.meter(input_id)
            came = placed(meter.last(BALANCE_S), meter.input.tone)
            rate_hz = meter.input.mode.sample_rate_hz
            if rate_hz != RATE_HZ:
                came = soxr.resample(came.T, rate_hz, RATE_HZ).T
            sounds.append((np.asarray(came, np.float32), float(gain_db)))
        length = min((s.shape[1] for s, _ in sounds), default=0)
        return mix_sounds([(s[:, s.shape[1] - length :], g) for s, g in sounds], length)

    def _propose_rig(self, command: dict[str, Any]) -> dict[str, Any]:
        return rig_to_dict(rig_of_devices(command["name"], self._drivers.list_devices()))

    def _open_rig(self, command: dict[str, Any]) -> None:
        rig = rig_from_dict(command["rig"])
        spares, owner = bool(command.get("spares")), str(command.get("owner", ""))
        self._engine.call(lambda: self._engine.open_rig(rig, spares, owner))

    def _live(self) -> Live:
        if self._engine.live is None:
            raise EngineError("No rig is open, so nothing is seen. Reload the page.")
        return self._engine.live

    def _try_scene(self, command: dict[str, Any]) -> None:
        """Show a scene as it would be, for a moment."""
        scene = read_scene(Reader(command["scene"], "scene"), VERSION)
        until_s = time.monotonic() + TRIED_FOR_S
        live = self._live()
        live.tried = {**live.tried, scene.id: Tried(scene, until_s)}

    def _play_change(self, command: dict[str, Any]) -> None:
        """Show how a scene gives way to another one."""
        live = self._live()
        to_id = live.rig.scene(command["to"]).id
        live.played = Played(live.rig.scene(command["scene"]).id, to_id, time.monotonic())

    def _pick_colour(self, command: dict[str, Any]) -> str:
        x, y = float(command["x"]), float(command["y"])
        return pick_colour(self._live(), command["scene"], command["layer"], x, y)

    def _reading(self, command: dict[str, Any]) -> dict[str, float | None]:
        live = self._engine.live
        return self._reading_watch.ask(live, list(command["inputs"])) if live else {}

    def _record(self, command: dict[str, Any]) -> None:
        rig = rig_from_dict(command["rig"])
        path = (self._takes / str(command["folder"])).resolve()
        if path.parent != self._takes.resolve():
            raise EngineError(f"Takes lie in {self._takes}; “{command['folder']}” does not.")
        countdown_s = int(command.get("countdown_s", 0))
        self._engine.call(lambda: self._engine.record(rig, path, countdown_s))

    def _quit(self, _: dict[str, Any]) -> None:
        self._running = False

    def run(self) -> None:
        """Answer until told to quit."""
        while self._running:
            if self._socket.poll(500):
                self._socket.send_json(self._answer(self._socket.recv()))
        self._ending.set()
        # The publishing thread asks the engine; it ends first.
        self._publisher.close()
        self._engine.close()
        self._warming.join()
        self._reading_watch.close()
        self._socket.close(linger=200)

    def _answer(self, message: bytes) -> dict[str, Any]:
        try:
            command = json.loads(message)
            return {"ok": self._commands[command["do"]](command)}
        except KettleError as error:
            return {"error": str(error), "field": getattr(error, "field", "")}
        except (KeyError, TypeError, ValueError) as error:
            return {"error": f"The engine does not know this command: {error!r}.", "field": ""}

    def end(self, *_: object) -> None:
        """Leave the loop at the next look."""
        self._running = False


def main() -> int:
    """Run the engine for a data folder."""
    work_frame_by_frame()
    try:
        server = Server(Path(sys.argv[1]))
    except KettleError as error:
        print(error, file=sys.stderr)
        return 2
    signal.signal(signal.SIGTERM, server.end)
    signal.signal(signal.SIGINT, server.end)
    for repaired in server.repaired:
        print(f"{Path(repaired['folder']).name}: {' '.join(repaired['notes'])}", flush=True)
    server.run()
    return 0


if __name__ == "__main__":
    sys.exit(main())
