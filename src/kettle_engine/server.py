"""The engine's process: the door through which commands come.

Start it with `python -m kettle_engine.server DATA_FOLDER`.
"""

import logging.config
import signal
import sys
import time
from functools import partial
from pathlib import Path

import zmq

from kettle_core.errors import EngineError, KettleError
from kettle_engine.addresses import command_address, line_path, socket_folder
from kettle_engine.client import EngineClient
from kettle_engine.commands import Commands
from kettle_engine.engine import Engine
from kettle_engine.fork_server import FORK_SERVER
from kettle_engine.line_door import LineDoor
from kettle_engine.logs import logging_settings
from kettle_engine.question import Once, Question

STEP_S = 0.05
LIST_LIMIT_S = 10.0

log = logging.getLogger("kettle.engine")


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
        self._lines = LineDoor(line_path(data_dir))
        self._once = Once()
        self._engine = Engine(data_dir)
        self._running = True
        # Commands that want to know what is plugged in, asked before the drivers have said so.
        self._early: list[Question] = []
        self._listed_until_s = time.monotonic() + LIST_LIMIT_S
        self._commands = Commands(self._engine, self._takes, self.end)

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
                self._engine.step(STEP_S, file, *self._lines.handles)
                self._hear()
        finally:
            self._engine.close()
            self._lines.close()
            self._socket.close(linger=200)

    def _hear(self) -> None:
        early, self._early = self._early, []
        for question in early:
            self._do(question)
        while self._socket.poll(0):
            *envelope, body = self._socket.recv_multipart()
            self._take(Question(body, partial(self._send, envelope)))
        for question in self._lines.questions():
            self._take(question)

    def _send(self, envelope: list[bytes], body: bytes) -> None:
        self._socket.send_multipart([*envelope, body])

    def _take(self, question: Question) -> None:
        if not question.is_answered and self._once.is_new(question):
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
            log.exception("A command failed.")
            question.answer(EngineError(f"The engine failed: {error!r}."))

    def _try(self, question: Question) -> None:
        wants_devices = question.do in ("devices", "propose_rig")
        listed = self._engine.are_devices_listed or time.monotonic() > self._listed_until_s
        if wants_devices and not listed:
            self._early.append(question)
        else:
            self._commands.do(question)

    def end(self, *_: object) -> None:
        """Leave the loop at the next look."""
        self._running = False


def main() -> int:
    """Run the engine for a data folder."""
    FORK_SERVER.fork_now()
    data = Path(sys.argv[1])
    logging.config.dictConfig(logging_settings(data))
    try:
        server = Server(data)
    except KettleError as error:
        print(error, file=sys.stderr)
        return 2
    signal.signal(signal.SIGTERM, server.end)
    signal.signal(signal.SIGINT, server.end)
    server.run()
    return 0


if __name__ == "__main__":
    sys.exit(main())
