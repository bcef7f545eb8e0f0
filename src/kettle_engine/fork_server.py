"""The process that the engine's other processes are forked from.

It has loaded what they need, so that they start within some ms and share its memory. The engine
loads all that and forks it, once, while it has no threads yet (`fork_now`): the memory is the
engine's too, and nothing is loaded twice. Who has not done so gets one that loads for itself.

Who wants a process sends three files: a socket for its number and its end, and what the process
is given (see `kettle_engine.line.run`). The server ends when it is asked no more.
"""

import atexit
import contextlib
import gc
import importlib
import os
import select
import selectors
import signal
import socket
import struct
import sys
import threading
import time
import traceback
from typing import Any, NoReturn
from weakref import WeakSet

from kettle_core.errors import EngineError
from kettle_engine.devices.registry import BUILT_IN
from kettle_engine.line import run

LOADED = (
    "kettle_engine.devices.host",
    "kettle_engine.recording.process",
    "kettle_engine.viewing.viewer",
    *(factory.partition(":")[0] for factory in BUILT_IN.values()),
)
FILES = 3
# A server tells of an end within this time, unless it stands still.
TOLD_WITHIN_S, LOOK_S = 0.5, 0.1
# One that has forked a process has loaded all: what it does not fork by then it does not, as it
# stands still. One that still loads what processes need takes its time on a busy machine.
BORN_WITHIN_S, LOADED_WITHIN_S = 4.0, 60.0
_NUMBER = struct.Struct("q")
# Of a process whose server has ended nobody knows how it ended.
UNKNOWN_STATUS = -int(signal.SIGKILL)


class Forked:
    """A process that was asked for: whether it lives, and how it ended.

    Its number comes when the server has forked it. Its end is seen also where the server that
    would tell of it stands still or has ended; how it ended is not known then.
    """

    def __init__(self, told: socket.socket, asks: socket.socket, server: "ForkServer") -> None:
        self._told: socket.socket | None = told
        told.setblocking(False)
        self._asks, self._server = asks, server
        self._handle: int | None = None
        self._over_s: float | None = None
        self._pid = 0
        self._exit_status: int | None = None

    @property
    def pid(self) -> int:
        """Its number; 0 while it is not begun."""
        self._hear()
        return self._pid

    @property
    def exit_status(self) -> int | None:
        """How it ended; None while it has not."""
        self._hear()
        return self._exit_status

    @property
    def born_within_s(self) -> float:
        """So long it may take until it is begun."""
        return BORN_WITHIN_S if self._server.has_forked(self._asks) else LOADED_WITHIN_S

    @property
    def handles(self) -> list[Any]:
        """What becomes readable when there is something to hear of it."""
        handle = self._handle if self._over_s is None else None
        return [x for x in (self._told, handle) if x is not None]

    @property
    def is_alive(self) -> bool:
        """Whether it has not ended."""
        return self.exit_status is None

    def wait(self, timeout_s: float) -> bool:
        """Wait for its end; whether it has ended."""
        until_s = time.monotonic() + timeout_s
        while self.is_alive:
            left_s = until_s - time.monotonic()
            if left_s <= 0:
                return False
            select.select(self.handles, [], [], min(left_s, LOOK_S))
        return True

    def kill(self) -> None:
        """End it at once; one that is not begun is not waited for, and nor is its server."""
        if not self.is_alive:
            return
        if self._pid:
            with contextlib.suppress(ProcessLookupError):
                os.kill(self._pid, signal.SIGKILL)
            return
        self._server.leave(self._asks)
        self._end(UNKNOWN_STATUS)

    def close(self) -> None:
        """Let go what is left of it."""
        if self._told:
            self._told.close()
            self._told = None
        if self._handle is not None:
            os.close(self._handle)
            self._handle = None

    def _end(self, status: int) -> None:
        self._exit_status = status
        self.close()

    def _hear(self) -> None:
        while self._told and self._exit_status is None:
            try:
                said = self._told.recv(_NUMBER.size)
            except BlockingIOError:
                break
            except OSError:
                said = b""
            if not said:
                self._told.close()
                self._told = None
            elif self._pid:
                self._end(_NUMBER.unpack(said)[0])
            else:
                self._pid = int(_NUMBER.unpack(said)[0])
                self._server.told_of(self._asks)
                # One that is over by now is told of.
                with contextlib.suppress(ProcessLookupError):
                    self._handle = os.pidfd_open(self._pid)
        if self._exit_status is None:
            self._look()

    def _look(self) -> None:
        """Whether it is over without a word of its server."""
        if not self._pid:
            if self._told is None:
                self._end(UNKNOWN_STATUS)
            return
        if self._handle is not None and not select.select([self._handle], [], [], 0)[0]:
            return
        if self._over_s is None:
            self._over_s = time.monotonic()
        if self._told is None or time.monotonic() > self._over_s + TOLD_WITHIN_S:
            self._end(UNKNOWN_STATUS)


class ForkServer:
    """Forks processes; any thread may ask. One that was killed is started anew."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._asks: socket.socket | None = None
        # Servers that have loaded all, by what they are asked through.
        self._forked: WeakSet[socket.socket] = WeakSet()

    def fork_now(self) -> None:
        """Load what processes need and fork the server from this process, which has one thread."""
        _load()
        asks, theirs = _pair()
        if os.fork() == 0:
            asks.close()
            _become(theirs)
        theirs.close()
        self._forked.add(self._keep(asks))

    def fork(self, connection: int, beat: int) -> Forked:
        """A process that is given two files. Raises EngineError if there is none to be had."""
        with self._lock:
            for _ in range(2):
                asks = self._asks or self._keep(_start())
                told, theirs = _pair()
                with theirs:
                    try:
                        socket.send_fds(asks, [b"."], [theirs.fileno(), connection, beat])
                        return Forked(told, asks, self)
                    except OSError:
                        # It was killed, or stands still; another one is as good.
                        told.close()
                        self._leave()
        raise EngineError("No process can be begun on this machine.")

    def told_of(self, asks: socket.socket) -> None:
        """A server has forked a process."""
        self._forked.add(asks)

    def has_forked(self, asks: socket.socket) -> bool:
        """Whether a server is known to have forked one, or has loaded all."""
        return asks in self._forked

    def leave(self, asks: socket.socket) -> None:
        """Have the next process come from another server than the one that these asks went to."""
        with self._lock:
            if self._asks is asks:
                self._leave()

    def _keep(self, asks: socket.socket) -> socket.socket:
        # Of one that stands still the next one that asks must not wait for room.
        asks.setblocking(False)
        self._asks = asks
        atexit.register(asks.close)
        return asks

    def _leave(self) -> None:
        if self._asks:
            self._asks.close()
            atexit.unregister(self._asks.close)
        self._asks = None


def _pair() -> tuple[socket.socket, socket.socket]:
    return socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)


def _start() -> socket.socket:
    """A server that loads for itself."""
    asks, theirs = _pair()
    with theirs:
        words = [sys.executable, "-m", "kettle_engine.fork_server"]
        # One thread a call: its processes work on one frame after the other.
        environment = {**os.environ, "OPENBLAS_NUM_THREADS": "1"}
        as_stdin = [(os.POSIX_SPAWN_DUP2, theirs.fileno(), 0)]
        os.posix_spawn(sys.executable, words, environment, file_actions=as_stdin)
    return asks


def _load() -> None:
    """Load what processes need; what is there by then stays shared with them."""
    for name in LOADED:
        importlib.import_module(name)
    gc.collect()
    gc.freeze()


def _become(asks: socket.socket) -> NoReturn:
    """Serve and end, whatever this process was before."""
    status = 1
    try:
        _serve(asks)
        status = 0
    except Exception:
        traceback.print_exc()
    finally:
        os._exit(status)


def _serve(asks: socket.socket) -> None:
    """Fork a process for each that asks, and tell how it ended."""
    # Ctrl-C and an end of the engine are told by the engine.
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, signal.SIG_IGN)
    living: dict[int, tuple[int, socket.socket]] = {}
    with selectors.DefaultSelector() as selector:
        selector.register(asks, selectors.EVENT_READ)
        while True:
            for key, _ in selector.select():
                if key.fileobj is not asks:
                    selector.unregister(key.fd)
                    _tell_end(key.fd, *living.pop(key.fd))
                    continue
                _, files, _, _ = socket.recv_fds(asks, 1, FILES)
                if len(files) < FILES:
                    return
                pid = os.fork()
                if pid == 0:
                    selector.close()
                    asks.close()
                    for handle, (_, told) in living.items():
                        os.close(handle)
                        told.close()
                    _work(*files)
                told = socket.socket(fileno=files[0])
                with contextlib.suppress(OSError):
                    told.send(_NUMBER.pack(pid))
                for file in files[1:]:
                    os.close(file)
                handle = os.pidfd_open(pid)
                living[handle] = (pid, told)
                selector.register(handle, selectors.EVENT_READ)


def _tell_end(handle: int, pid: int, told: socket.socket) -> None:
    os.close(handle)
    _, status = os.waitpid(pid, 0)
    # Who asked may be gone.
    with told, contextlib.suppress(OSError):
        told.send(_NUMBER.pack(os.waitstatus_to_exitcode(status)))


def _work(told: int, connection: int, beat: int) -> NoReturn:
    status = 1
    try:
        os.close(told)
        run(connection, beat)
        status = 0
    except Exception:
        traceback.print_exc()
    finally:
        # Threads that still wait are not waited for.
        for printed in (sys.stdout, sys.stderr):
            printed.flush()
        os._exit(status)


# Each process has its own; those that it starts are its children's own too.
FORK_SERVER = ForkServer()


if __name__ == "__main__":
    _load()
    asked = socket.socket(fileno=os.dup(0))
    # What it forks must not hold the door open that it leaves.
    os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
    _become(asked)
