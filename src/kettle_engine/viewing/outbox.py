"""The socket that pages' topics go out by, and which of them somebody has subscribed to."""

import json
import time
from typing import Any

import zmq


class Outbox:
    """Sends messages by topic and knows what was sent of each last. For one thread."""

    def __init__(self, address: str) -> None:
        self._socket: zmq.Socket[bytes] = zmq.Context.instance().socket(zmq.XPUB)
        self._socket.setsockopt(zmq.XPUB_VERBOSER, 1)
        self._socket.set_hwm(60)
        self._socket.bind(address)
        self.watched: dict[bytes, int] = {}
        self._sent: dict[bytes, tuple[float, int]] = {}

    def read_subscriptions(self) -> None:
        """Find out what is watched now; who comes new gets the next picture at once."""
        while self._socket.poll(0):
            message = self._socket.recv()
            topic, change = message[1:], 1 if message[0] else -1
            self.watched[topic] = max(0, self.watched.get(topic, 0) + change)
            if message[0]:
                self._sent.pop(topic, None)
            if not self.watched[topic]:
                del self.watched[topic]

    def send(self, topic: bytes, header: dict[str, Any], body: bytes = b"") -> None:
        """Send a message."""
        self._socket.send_multipart([topic, json.dumps(header).encode(), body])

    def is_due(self, topic: bytes, every_s: float) -> bool:
        """Whether nothing was marked for so long."""
        return time.monotonic() - self._sent.get(topic, (0.0, 0))[0] >= every_s

    def is_new(self, topic: bytes, stamp: int) -> bool:
        """Whether what has a stamp was not the last that was marked."""
        return topic not in self._sent or self._sent[topic][1] != stamp

    def mark(self, topic: bytes, stamp: int) -> None:
        """Remember what is sent, or what looks as it was sent, now."""
        self._sent[topic] = (time.monotonic(), stamp)

    def forget(self) -> None:
        """Send everything anew."""
        self._sent.clear()

    def close(self) -> None:
        """Let the socket go."""
        self._socket.close(linger=0)
