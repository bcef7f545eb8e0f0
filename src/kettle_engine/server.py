"""The engine's process: the door through which commands come.

Start it with `python -m kettle_engine.server DATA_FOLDER`.
"""

import fcntl
import logging.config
import os
import signal
import sys
import time
from functools import partial
from pathlib import Path

import zmq

from kettle_core.errors import EngineError, KettleError
from kettle_engine.addresses import command_address, line_path, open_socket_folder
from kettle_engine.commands import Commands
from kettle_engine.engine import Engine
from kettle_engine.fork_server import FORK_SERVER
from kettle_engine.line_door import LineDoor
from kettle_engine.logs import logging_settings
from kettle_engine.question import Once, Question

STEP_S = 0.05
LIST_LIMIT_S = 10.0

log = logging.getLogger("kettle.engine")


def only_engine(data_dir: Path) -> int:
    """Be the one engine of a data folder for as long as this process lives, or its file is open.

    One that stands still is one too. Raises EngineError where there is another one.
    """
    # The folder itself: a full disk has no room for a file.
    file, told = os.open(data_dir, os.O_RDONLY), open_socket_folder(data_dir) / "pid"
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError as error:
        os.close(file)
        pid = told.read_text() if told.is_file() else "unknown"
        raise EngineError(f"An engine runs for {data_dir} already (process {pid}).") from error
    told.write_text(str(os.getpid()))
    return file


class Server:
    """Commands as JSON objects: {"do": NAME, …} gives {"ok": …} or {"error": SENTENCE}.

    Nothing here waits: a command that another process does is answered when that has.
    """

    def __init__(self, data_dir: Path) -> None:
        self._data_dir = data_dir
        self._takes = data_dir / "takes"
        self._takes.mkdir(parents=True, exist_ok=True)
        self._lock = only_engine(data_dir)
        self._socket: zmq.Socket[bytes] = zmq.Context.instance().socket(zmq.ROUTER)
        self._socket.bind(command_address(data_dir))
        self._lines = LineDoor(line_path(data_dir))
        self._once = Once()
        self._engine = Engine(data_dir)
        self._running = True
        # Commands that want to know what is plugged in, asked before the drivers have said so.
        self._early: list[Question] = []
        self._listed_until_s = time.monotonic() + LIST_LIMIT_S
        self._commands = Commands(self._engine, self._takes, self.end)

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
            os.close(self._lock)

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
    except (KettleError, OSError) as error:
        print(error, file=sys.stderr)
        return 2
    signal.signal(signal.SIGTERM, server.end)
    signal.signal(signal.SIGINT, server.end)
    server.run()
    return 0


if __name__ == "__main__":
    sys.exit(main())
