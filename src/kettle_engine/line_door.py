"""A door for those who have no library: a line of JSON in, a line of JSON out, on a local socket.

`./kettle say` uses it, and so can any other program of the same user.
"""

import contextlib
import socket
from dataclasses import dataclass
from pathlib import Path

from kettle_engine.question import Question

MOST_BYTES, MOST_CALLERS = 64_000, 32


@dataclass
class _Caller:
    socket: socket.socket
    read: bytes = b""


class LineDoor:
    """Never waits for a caller. `handles` are what may have something to say.

    While the house is full, who has been silent for longest makes room for who comes.
    """

    def __init__(self, path: Path) -> None:
        path.unlink(missing_ok=True)
        self._path = path
        self._door = socket.socket(socket.AF_UNIX)
        self._door.bind(str(path))
        self._door.listen(MOST_CALLERS)
        self._door.setblocking(False)
        self._callers: list[_Caller] = []

    @property
    def handles(self) -> list[socket.socket]:
        """To be waited for."""
        return [self._door, *(c.socket for c in self._callers)]

    def questions(self) -> list[Question]:
        """Commands that have come in whole; a line that is none is answered and left."""
        found = self._hear_all()
        with contextlib.suppress(BlockingIOError):
            for _ in range(MOST_CALLERS):
                caller, _ = self._door.accept()
                caller.setblocking(False)
                if len(self._callers) >= MOST_CALLERS:
                    self._leave(self._callers[0])
                self._callers.append(_Caller(caller))
        return found + self._hear_all()

    def _hear_all(self) -> list[Question]:
        return [question for caller in list(self._callers) for question in self._hear(caller)]

    def _leave(self, caller: _Caller) -> None:
        self._callers.remove(caller)
        caller.socket.close()

    def _hear(self, caller: _Caller) -> list[Question]:
        try:
            got = caller.socket.recv(MOST_BYTES)
        except BlockingIOError:
            return []
        except OSError:
            got = b""
        caller.read += got
        if not got or len(caller.read) > MOST_BYTES:
            self._leave(caller)
            return []
        # The silent ones come first.
        self._callers.remove(caller)
        self._callers.append(caller)
        *lines, caller.read = caller.read.split(b"\n")
        return [Question(line, lambda body: _send(caller.socket, body)) for line in lines if line]

    def close(self) -> None:
        """Let nobody in any more."""
        for caller in self._callers:
            caller.socket.close()
        self._door.close()
        self._path.unlink(missing_ok=True)


def _send(to: socket.socket, body: bytes) -> None:
    # A caller that has gone, or does not read, is not waited for.
    with contextlib.suppress(OSError):
        to.sendall(body + b"\n")
