"""The engine's end of a process's line: what goes out and comes in without ever waiting.

The other end is a `multiprocessing.connection.Connection`, which may stand still, or have sent
half a message.
"""

import pickle
import socket
import struct
from collections import deque
from dataclasses import dataclass
from multiprocessing.reduction import ForkingPickler
from typing import Any

# How that module frames a message: its length, or -1 and a longer one.
_LENGTH, _LONG = struct.Struct("!i"), struct.Struct("!Q")
MOST_SHORT = 0x7FFF_FFFF
READ_BYTES = 1 << 16


@dataclass
class _Letter:
    """A message that has not gone out whole. `key` says of what it is the newest."""

    key: str
    data: memoryview
    begun: bool = False


class Mailbox:
    """Messages to and from one process. `post` and `collect` do as much as can be done at once."""

    def __init__(self, end: socket.socket) -> None:
        self._socket: socket.socket | None = end
        end.setblocking(False)
        self._out: deque[_Letter] = deque()
        self._in = bytearray()

    @property
    def is_open(self) -> bool:
        """Whether somebody is at the other end, as far as is known."""
        return self._socket is not None

    @property
    def handle(self) -> socket.socket | None:
        """What becomes readable when something comes in."""
        return self._socket

    @property
    def waiting(self) -> int:
        """How many messages have not gone out."""
        return len(self._out)

    def send(self, message: tuple[Any, ...], key: str = "") -> bool:
        """Send a message as soon as there is room; False where nobody is there.

        With a `key` it takes the place of one with the same key that nobody has begun to read.
        """
        if self._socket is None:
            return False
        body = bytes(ForkingPickler.dumps(message))
        short = len(body) <= MOST_SHORT
        head = _LENGTH.pack(len(body)) if short else _LENGTH.pack(-1) + _LONG.pack(len(body))
        if key:
            self._out = deque(x for x in self._out if x.begun or x.key != key)
        self._out.append(_Letter(key, memoryview(head + body)))
        self.post()
        return self.is_open

    def post(self) -> None:
        """Have as much go out as there is room for."""
        while self._out and self._socket:
            letter = self._out[0]
            try:
                sent = self._socket.send(letter.data)
            except BlockingIOError:
                return
            except OSError:
                self._out.clear()
                return
            letter.data, letter.begun = letter.data[sent:], True
            if not letter.data:
                self._out.popleft()

    def collect(self) -> list[tuple[Any, ...]]:
        """The messages that are there whole. One whose sender has gone is open no more after."""
        gone = False
        while self._socket:
            try:
                read = self._socket.recv(READ_BYTES)
            except BlockingIOError:
                break
            except OSError:
                read = b""
            if not read:
                gone = True
                break
            self._in += read
        found = list(iter(self._next, None))
        if gone:
            self.close()
        return found

    def _next(self) -> tuple[Any, ...] | None:
        at = _LENGTH.size
        if len(self._in) < at:
            return None
        (length,) = _LENGTH.unpack_from(self._in)
        if length < 0:
            if len(self._in) < at + _LONG.size:
                return None
            (length,) = _LONG.unpack_from(self._in, at)
            at += _LONG.size
        if len(self._in) < at + length:
            return None
        message: tuple[Any, ...] = pickle.loads(self._in[at : at + length])  # noqa: S301
        del self._in[: at + length]
        return message

    def close(self) -> None:
        """Hang up."""
        if self._socket:
            self._socket.close()
        self._socket = None
        self._out.clear()
