"""A player at the end of a line: orders come as JSON lines, messages go, their length first.

The first line names what is played (`show_named`); where that has changed such a line comes anew.
A take whose sync was not measured yet plays by its stamps at once, is measured meanwhile, and goes
on as measured.

It ends when nobody is at the other end, or has said nothing for a while; then it says so by a
message of no length.
"""

import io
import json
import queue
import threading
import time
from contextlib import suppress
from typing import Any

from kettle_core.errors import KettleError
from kettle_media.assembly.open_takes import OpenTakes
from kettle_media.player.messages import LENGTH, Message
from kettle_media.player.player import Order, Player
from kettle_media.player.show import Named, measure, needs_measuring, show_named
from kettle_media.priority import lower_priority
from kettle_media.program.show import Show

# Who stands still may think for so long; a page that plays says ten times a second where it is.
FORGOTTEN_S = 600.0
# What measures gives way to what plays.
MEASURES_NICE = 10
# While it plays, so often it is looked whether something is wanted.
REST_S = 0.02


class GoneError(Exception):
    """Nobody listens any more."""


class PlayerProcess:
    """Answers orders from a line until nobody listens at its other end."""

    def __init__(self, line: io.RawIOBase) -> None:
        self._line = line
        self._named: Named = {}
        self._lines: queue.Queue[bytes] = queue.Queue()
        self._show: Show | None = None
        self._takes = OpenTakes()
        self._player: Player | None = None
        self._turn = 0
        self._opened = 0  # how often something was
        self._measured: dict[int, Show] = {}
        self._asked_at_s = time.monotonic()

    def run(self) -> None:
        """Answer."""
        threading.Thread(target=self._listen, name="orders", daemon=True).start()
        with suppress(GoneError, ConnectionError):
            made: Message | None = None
            while True:
                self._follow_orders(wait=made is None)
                made = self._make()
                if made:
                    self._say(made)
        if self._show:
            self._show.close()
        self._takes.keep(())

    def _listen(self) -> None:
        # The line itself would read them byte by byte; a cut list has a hundred thousand.
        lines = io.BufferedReader(self._line)
        with suppress(ConnectionError):
            while line := lines.readline():
                self._lines.put(line)
        lines.detach()
        self._lines.put(b"")

    def _follow_orders(self, wait: bool) -> None:
        """Follow all orders that came; where nothing else is to be done, wait for one."""
        plays = self._player is not None and self._player.is_playing
        wait_s = (REST_S if plays else FORGOTTEN_S) if wait else 0.0
        with suppress(queue.Empty):
            while True:
                line = self._lines.get(timeout=wait_s) if wait_s else self._lines.get_nowait()
                if not line:
                    raise GoneError
                wait_s, self._asked_at_s = 0.0, time.monotonic()
                self._follow(json.loads(line))
        if time.monotonic() - self._asked_at_s >= FORGOTTEN_S:
            self._send(b"")
            raise GoneError

    def _follow(self, asked: dict[str, Any]) -> None:
        if "play" in asked:
            self._named = asked["play"]
            self._open()
            self._say(Message(Message.READY, 0, 0.0))
            return
        if "measured" in asked:
            self._go_over(asked["measured"])
            return
        loop = asked.get("loop")
        order = Order(
            int(asked["turn"]),
            float(asked["at"]),
            bool(asked["playing"]),
            float(asked["rate"]),
            (float(loop[0]), float(loop[1])) if loop else None,
            float(asked.get("late", 0)),
        )
        begins, self._turn = order.turn != self._turn, order.turn
        if begins and self._player is None:
            self._open()
        if self._player:
            try:
                self._player.order(order)
            except KettleError as error:
                self._fail(error)

    def _make(self) -> Message | None:
        try:
            return self._player.make() if self._player else None
        except KettleError as error:
            self._fail(error)
            return None

    def _open(self) -> None:
        """Open what is played, as it is by now."""
        if self._show:
            self._show.close()
        self._show = self._player = None
        self._opened += 1
        try:
            unmeasured = needs_measuring(self._named)
            before = self._takes.opened
            self._show = show_named(self._named, unmeasured, self._takes)
            self._player = Player(self._show)
            if unmeasured or self._takes.opened > before:
                self._player.warm_up()
        except KettleError as error:
            self._fail(error)
            return
        if unmeasured:
            args = self._opened, self._named
            threading.Thread(target=self._measure, args=args, daemon=True).start()

    def _measure(self, opened: int, named: Named) -> None:
        """Measure what is played, open it so, and say it; else it plays on as it did."""
        lower_priority(MEASURES_NICE)
        # A take may be gone by now; who plays it is told of that elsewhere.
        with suppress(KettleError, OSError):
            measure(named)
            self._measured[opened] = show_named(named)
            self._lines.put(json.dumps({"measured": opened}).encode())

    def _go_over(self, opened: int) -> None:
        """Go on with what was measured of what was opened then, if that still plays."""
        show, before = self._measured.pop(opened), self._show
        if opened != self._opened or not self._player or not before:
            show.close()
            return
        self._player.go_over(show)
        self._show = show
        before.close()

    def _fail(self, error: KettleError) -> None:
        """Say what is wrong; the next order that begins somewhere tries again."""
        self._player = None
        self._takes.keep(())
        self._say(Message(Message.TROUBLE, self._turn, 0.0, str(error).encode()))

    def _say(self, message: Message) -> None:
        self._send(message.packed())

    def _send(self, data: bytes) -> None:
        left = memoryview(LENGTH.pack(len(data)) + data)
        while left:
            left = left[self._line.write(left) or 0 :]
