"""Asks the engine; used by the web and the command line."""

import socket as socketlib
import time
from pathlib import Path
from typing import Any

import zmq

from kettle_core.errors import EngineError, RigError
from kettle_engine.addresses import command_address

LOOK_MS = 500
NOT_RUNNING = (
    "The recording engine is not running, so nothing can be shown or recorded. "
    "Start everything with ./kettle demo or ./kettle serve."
)


class EngineClient:
    """One question at a time, each on a socket of its own."""

    def __init__(self, data_dir: Path, timeout_ms: int = 20_000) -> None:
        self._address = command_address(data_dir)
        self._timeout_ms = timeout_ms

    def ask(self, do: str, **values: Any) -> Any:
        """Send a command and give its answer.

        Raises
        ------
        EngineError
            If the engine does not answer or refuses.
        RigError
            If it refuses because of the rig.
        """
        self._need_listener()
        socket: zmq.Socket[bytes] = zmq.Context.instance().socket(zmq.REQ)
        socket.linger = 0
        try:
            socket.connect(self._address)
            # Who has given up by then is not answered, and nothing is done for them.
            deadline_ns = time.monotonic_ns() + self._timeout_ms * 1_000_000
            socket.send_json({"do": do, "deadline_ns": deadline_ns, **values})
            if not self._answered(socket):
                raise EngineError(
                    "The recording engine does not answer; a take that is being recorded goes on. "
                    "Wait a little, then reload the page."
                )
            answer = socket.recv_json()
        finally:
            socket.close()
        if not isinstance(answer, dict):
            raise EngineError("The engine gave an answer that is no object.")
        if "error" in answer:
            if answer.get("field"):
                raise RigError(answer["error"], answer["field"])
            raise EngineError(answer["error"])
        return answer["ok"]

    def _answered(self, socket: zmq.Socket[bytes]) -> bool:
        """Wait for the answer, but not for an engine that has gone meanwhile."""
        left_ms = self._timeout_ms
        while left_ms > 0:
            if socket.poll(min(left_ms, LOOK_MS)):
                return True
            left_ms -= LOOK_MS
            self._need_listener()
        return False

    def is_listening(self) -> bool:
        """Whether an engine is there that can be asked, which need not mean that it answers."""
        with socketlib.socket(socketlib.AF_UNIX) as probe:
            try:
                probe.connect(self._address.removeprefix("ipc://"))
            except OSError:
                return False
        return True

    def _need_listener(self) -> None:
        """Raise EngineError at once where nobody listens, not after the time limit."""
        if not self.is_listening():
            raise EngineError(NOT_RUNNING)
