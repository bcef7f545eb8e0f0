"""The engine's process: the door through which commands come.

Start it with `python -m kettle_engine.server DATA_FOLDER`.
"""

import json
import os
import signal
import sys
import time
import traceback
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import zmq

from kettle_core.errors import EngineError, KettleError
from kettle_core.rig.data import rig_from_dict, rig_to_dict
from kettle_core.rig.first_rig import rig_of_devices
from kettle_engine.client import EngineClient
from kettle_engine.engine import Engine
from kettle_engine.protocol import command_address, device_to_dict, socket_folder
from kettle_engine.questions import Way

STEP_S = 0.02
LIST_LIMIT_S = 10.0
VIEWER_COMMANDS = (
    *("identify", "hear", "balance", "shared"),
    *("try_scene", "play_change", "pick_colour", "reading"),
)
Values = Mapping[str, Any]


class Question:
    """A command as it came, and the way back to who asked."""

    def __init__(self, socket: "zmq.Socket[bytes]", envelope: list[bytes], body: bytes) -> None:
        self._socket, self._envelope = socket, envelope
        read = json.loads(body)
        if not isinstance(read, dict):
            raise TypeError("a command is an object")
        self.values: dict[str, Any] = read
        self.do = str(read.pop("do", ""))
        # A command without a deadline is as old as its arrival.
        self.deadline_ns = int(read.pop("deadline_ns", time.monotonic_ns() + 20 * 10**9))

    def answer(self, value: Any) -> None:
        """Send an answer, or an error."""
        if isinstance(value, KettleError):
            answer = {"error": str(value), "field": getattr(value, "field", "")}
        else:
            answer = {"ok": value}
        self._socket.send_multipart([*self._envelope, json.dumps(answer).encode()])


class Server:
    """Commands as JSON objects: {"do": NAME, …} gives {"ok": …} or {"error": SENTENCE}.

    Nothing here waits: a command that another process does is answered when that has.
    """

    def __init__(self, data_dir: Path) -> None:
        self._data_dir = data_dir
        self._takes = data_dir / "takes"
        self._takes.mkdir(parents=True, exist_ok=True)
        socket_folder(data_dir).mkdir(mode=0o700, exist_ok=True)
        self._socket: zmq.Socket[bytes] = zmq.Context.instance().socket(zmq.ROUTER)
        self._bind(command_address(data_dir))
        self._engine = Engine(data_dir)
        self._running = True
        # Commands that want to know what is plugged in, asked before the drivers have said so.
        self._early: list[Question] = []
        self._listed_until_s = time.monotonic() + LIST_LIMIT_S
        self._commands: dict[str, Callable[[Values], Any]] = {
            "hello": lambda _: {
                "pid": os.getpid(),
                "pids": self._engine.pids(),
                "repaired": self._engine.repaired,
            },
            "devices": lambda _: self._devices(),
            "propose_rig": self._propose_rig,
            "open_rig": self._open_rig,
            "stop": lambda _: self._engine.stop(),
            "status": lambda _: self._engine.status(),
            "quit": lambda _: self.end(),
        }
        self._later: dict[str, Callable[[Question], None]] = {
            "record": self._record,
            "surroundings": self._surroundings,
            "switch": self._switch,
            "studio": self._studio_state,
            "fault": self._fault,
        }

    def _bind(self, address: str) -> None:
        try:
            found = EngineClient(self._data_dir, timeout_ms=400).ask("hello")
        except EngineError:
            self._socket.bind(address)
            return
        raise EngineError(f"An engine runs for {self._data_dir} already (process {found['pid']}).")

    def run(self) -> None:
        """Answer until told to quit; a running take is finished then."""
        file = self._socket.getsockopt(zmq.FD)
        try:
            while self._running:
                self._engine.step(STEP_S, file)
                self._hear()
        finally:
            self._engine.close()
            self._socket.close(linger=200)

    def _hear(self) -> None:
        early, self._early = self._early, []
        for question in early:
            self._do(question)
        while self._socket.poll(0):
            *envelope, body = self._socket.recv_multipart()
            try:
                question = Question(self._socket, envelope, body)
            except (TypeError, ValueError) as error:
                told = {"error": f"The engine does not know this command: {error!r}.", "field": ""}
                self._socket.send_multipart([*envelope, json.dumps(told).encode()])
                continue
            self._do(question)

    def _do(self, question: Question) -> None:
        if time.monotonic_ns() > question.deadline_ns:
            return
        try:
            self._try(question)
        except KettleError as error:
            question.answer(error)
        except (KeyError, TypeError, ValueError) as error:
            question.answer(EngineError(f"The engine does not know this command: {error!r}."))
        except Exception as error:  # one command must not end the engine
            traceback.print_exc()
            question.answer(EngineError(f"The engine failed: {error!r}."))

    def _try(self, question: Question) -> None:
        wants_devices = question.do in ("devices", "propose_rig")
        listed = self._engine.are_devices_listed or time.monotonic() > self._listed_until_s
        if wants_devices and not listed:
            self._early.append(question)
        elif question.do in VIEWER_COMMANDS:
            self._engine.ask_viewer(
                question.do, question.values, Way(question.answer, question.deadline_ns)
            )
        elif question.do in self._later:
            self._later[question.do](question)
        else:
            question.answer(self._commands[question.do](question.values))

    def _devices(self) -> list[dict[str, Any]]:
        """Every device, with what the engine sees or hears of those that it has open."""
        words = self._engine.device_words()
        found = [device_to_dict(d) for d in self._engine.devices()]
        return [{**d, "words": words.get(d["id"], "")} for d in found]

    def _propose_rig(self, values: Values) -> dict[str, Any]:
        return rig_to_dict(rig_of_devices(values["name"], self._engine.devices()))

    def _open_rig(self, values: Values) -> None:
        rig = rig_from_dict(values["rig"])
        self._engine.open_rig(rig, bool(values.get("spares")), str(values.get("owner", "")))

    def _record(self, question: Question) -> None:
        values = question.values
        rig = rig_from_dict(values["rig"])
        path = (self._takes / str(values["folder"])).resolve()
        if path.parent != self._takes.resolve():
            raise EngineError(f"Takes lie in {self._takes}; “{values['folder']}” does not.")
        self._engine.record(rig, path, int(values.get("countdown_s", 0)), question.answer)

    def _ask_driver(
        self, question: Question, device_id: str, name: str, values: dict[str, Any],
        to_plain: Callable[[Any], Any] = lambda found: found,
    ) -> None:  # fmt: skip
        def reply(found: Any) -> None:
            question.answer(found if isinstance(found, KettleError) else to_plain(found))

        self._engine.ask_driver(device_id, name, values, Way(reply, question.deadline_ns))

    def _surroundings(self, question: Question) -> None:
        device = question.values["device"]
        self._ask_driver(
            question, device, "surroundings", {"device_id": device},
            lambda found: [vars(entry) for entry in found],
        )  # fmt: skip

    def _switch(self, question: Question) -> None:
        device, key, on = (question.values[name] for name in ("device", "key", "on"))
        values = {"device_id": device, "key": key, "on": bool(on)}
        self._ask_driver(question, device, "switch_surrounding", values)

    def _studio_state(self, question: Question) -> None:
        """Faults of the simulated devices and switches of the simulated computer."""

        def to_plain(found: Any) -> dict[str, Any]:
            faults, switches = found
            rows = [{**device_to_dict(info), "faults": kinds} for info, kinds in faults]
            return {"devices": rows, "switches": switches}

        self._ask_driver(question, "", "state", {}, to_plain)

    def _fault(self, question: Question) -> None:
        device, fault = question.values["device"], question.values["fault"]
        if fault == "clock":
            self._ask_driver(question, device, "jump_clock", {"device_id": device})
        else:
            on = bool(question.values["on"])
            values = {"device_id": device, "fault": fault, "on": on}
            self._ask_driver(question, device, "set_fault", values)

    def end(self, *_: object) -> None:
        """Leave the loop at the next look."""
        self._running = False


def main() -> int:
    """Run the engine for a data folder."""
    try:
        server = Server(Path(sys.argv[1]))
    except KettleError as error:
        print(error, file=sys.stderr)
        return 2
    signal.signal(signal.SIGTERM, server.end)
    signal.signal(signal.SIGINT, server.end)
    server.run()
    return 0


if __name__ == "__main__":
    sys.exit(main())
