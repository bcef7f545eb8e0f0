"""Who listens to a player as a page does, with a clock in the hand."""

import json
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from typing import Any

from kettle_media.player.messages import LENGTH, Message
from kettle_media.player.nest import Nest
from kettle_media.player.show import Named


class Listener:
    """A line to a player, by which it is told what to play from where."""

    def __init__(self, line: Any) -> None:
        self._line, self._turn = line, 0

    def open(self, named: Named) -> None:
        """Have something opened, and wait until it is."""
        self._say({"play": named})
        self._until(Message.READY, 0)

    def played_ms(self, at_s: float, named: Named | None = None) -> dict[int, float]:
        """After how many ms the first picture and sound come from a time on.

        With `named` it is what is to be played from now on.
        """
        self._turn += 1
        began = time.perf_counter()
        if named:
            self._say({"play": named})
        self._say({"turn": self._turn, "at": at_s, "rate": 1.0, "playing": True})
        found: dict[int, float] = {}
        while not {Message.PICTURE, Message.SOUND} <= found.keys():
            message = self._message()
            if message.turn == self._turn:
                found.setdefault(message.kind, (time.perf_counter() - began) * 1000)
        return found

    def _until(self, kind: int, turn: int) -> None:
        while (message := self._message()).kind != kind or message.turn != turn:
            pass

    def _say(self, order: dict[str, Any]) -> None:
        self._line.write(json.dumps(order).encode() + b"\n")
        self._line.flush()

    def _message(self) -> Message:
        (length,) = LENGTH.unpack(self._line.read(LENGTH.size))
        return Message.unpacked(self._line.read(length))


@contextmanager
def listener() -> Iterator[Listener]:
    """One with a player of its own."""
    nest = Nest()
    try:
        with closing(nest.player()) as line, line.makefile("rwb") as both:
            yield Listener(both)
    finally:
        nest.end()
