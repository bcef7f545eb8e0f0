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
import selectors
import signal
import socket
import struct
import sys
import threading
import traceback
from typing import NoReturn

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
_NUMBER = struct.Struct("q")
# Of a process whose server has ended nobody knows how it ended.
UNKNOWN_STATUS = -int(signal.SIGKILL)


class Forked:
    """A process that was forked: whether it lives, and how it ended."""

    def __init__(self, told: socket.socket) -> None:
        self._told = told
        self.exit_status: int | None = None
        self.pid = self._number()

    @property
    def sentinel(self) -> int:
        """What becomes readable when it ends."""
        return self._told.fileno()

    @property
    def is_alive(self) -> bool:
        """Whether it has not ended."""
        return not self.wait(0)

    def wait(self, timeout_s: float) -> bool:
        """Wait for its end; whether it has ended."""
        if self.exit_status is None:
            self._told.settimeout(timeout_s)
            with contextlib.suppress(TimeoutError, BlockingIOError):
                self._end()
        return self.exit_status is not None

    def kill(self) -> None:
        """End it at once."""
        if self.is_alive:
            with contextlib.suppress(ProcessLookupError):
                os.kill(self.pid, signal.SIGKILL)

    def close(self) -> None:
        """Let go what is left of it."""
        self._told.close()

    def _end(self) -> None:
        try:
            self.exit_status = self._number()
        except EngineError:
            # The server has ended and tells no more; without it this one can't stay.
            with contextlib.suppress(ProcessLookupError):
                os.kill(self.pid, signal.SIGKILL)
            self.exit_status = UNKNOWN_STATUS

    def _number(self) -> int:
        said = self._told.recv(_NUMBER.size)
        if not said:
            raise EngineError("The server of the engine's processes has ended.")
        return int(_NUMBER.unpack(said)[0])


class ForkServer:
    """Forks processes; any thread may ask. One that was killed is started anew."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._asks: socket.socket | None = None

    def fork_now(self) -> None:
        """Load what processes need and fork the server from this process, which has one thread."""
        _load()
        asks, theirs = _pair()
        if os.fork() == 0:
            asks.close()
            _become(theirs)
        theirs.close()
        self._keep(asks)

    def fork(self, connection: int, beat: int) -> Forked:
        """A process that is given two files. Raises EngineError if there is none to be had."""
        with self._lock:
            try:
                return self._forked(connection, beat)
            except (OSError, EngineError):
                # It was killed; another one is as good.
                self._leave()
                return self._forked(connection, beat)

    def _forked(self, connection: int, beat: int) -> Forked:
        asks = self._asks or self._keep(_start())
        told, theirs = _pair()
        with theirs:
            try:
                socket.send_fds(asks, [b"."], [theirs.fileno(), connection, beat])
                theirs.close()
                return Forked(told)
            except (OSError, EngineError):
                told.close()
                raise

    def _keep(self, asks: socket.socket) -> socket.socket:
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
    _become(socket.socket(fileno=os.dup(sys.stdin.fileno())))
