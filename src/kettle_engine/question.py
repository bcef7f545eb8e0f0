"""A command that came in at the engine's door."""

import json
import time
from typing import Any

import zmq

from kettle_core.errors import KettleError


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
