"""Where players come from."""

import socket
import subprocess
import sys
import threading
from contextlib import suppress

# What it is asked for: a player, with a socket for it; or to make music beforehand.
ASK, MUSIC = b"p", b"m"


class Nest:
    """The process that players are forked from; any thread may ask."""

    def __init__(self) -> None:
        self._lock = threading.RLock()
        self._process: subprocess.Popen[bytes] | None = None
        self._asks: socket.socket | None = None
        self._has_music = False

    def warm_up_with_music(self) -> None:
        """As `warm_up`; music of our own will soon be chosen, which takes its time to be made."""
        with self._lock:
            asks = self.warm_up()
            if not self._has_music:
                # One that was killed meanwhile is missed by who asks for a player.
                with suppress(OSError):
                    asks.send(MUSIC)
                self._has_music = True

    def warm_up(self) -> socket.socket:
        """Have it load what players need, as one will soon be wanted; gives where to ask it."""
        with self._lock:
            if self._asks is None:
                self._asks, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
                words = [sys.executable, "-m", "kettle_media.player"]
                with theirs:
                    self._process = subprocess.Popen(
                        words, stdin=theirs.fileno(), start_new_session=True
                    )
            return self._asks

    @property
    def pid(self) -> int:
        """The number of its process, 0 where there is none."""
        return self._process.pid if self._process else 0

    def player(self) -> socket.socket:
        """A line to a new player."""
        try:
            return self._forked()
        except OSError:
            # It was killed; another one is as good.
            self.end()
            return self._forked()

    def end(self) -> None:
        """Have it end; players end with their own lines."""
        with self._lock:
            if self._asks:
                self._asks.close()
            if self._process:
                self._process.wait()
            self._asks = self._process = None
            self._has_music = False

    def _forked(self) -> socket.socket:
        asks = self.warm_up()
        ours, theirs = socket.socketpair()
        with theirs:
            try:
                socket.send_fds(asks, [ASK], [theirs.fileno()])
            except OSError:
                ours.close()
                raise
        return ours
