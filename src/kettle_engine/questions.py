"""Questions to other processes: asked, answered later, or given up."""

import itertools
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from kettle_core.errors import EngineError
from kettle_engine.processes import Child

Reply = Callable[[Any], None]


@dataclass(frozen=True)
class Way:
    """The way back to who asked, who waits until `deadline_ns` on the system's monotonic clock.

    `reply` gets the answer, or an error of ours.
    """

    reply: Reply
    deadline_ns: int


class Questions:
    """What has been asked and not answered yet."""

    def __init__(self) -> None:
        self._numbers = itertools.count()
        self._open: dict[int, tuple[Child, Way]] = {}

    def ask(self, child: Child, name: str, values: dict[str, Any], way: Way) -> None:
        """Ask a process. Raises EngineError where it is not there."""
        number = next(self._numbers)
        if not child.send("call", number, name, values, way.deadline_ns):
            raise EngineError("This is being started again. Try it once more.")
        self._open[number] = (child, way)

    def answer(self, number: int, found: Any) -> None:
        """Pass an answer on; one that comes too late is nobody's."""
        if number in self._open:
            self._open.pop(number)[1].reply(found)

    def give_up(self, child: Child) -> None:
        """Answer what a process was asked that has died."""
        for number in [n for n, (asked, _) in self._open.items() if asked is child]:
            told = "This failed and is started again. Try it once more."
            self.answer(number, EngineError(told))

    def expire(self) -> None:
        """Answer what has waited too long."""
        now_ns = time.monotonic_ns()
        for number in [n for n, (_, way) in self._open.items() if now_ns > way.deadline_ns]:
            self.answer(number, EngineError("This did not answer in time. Try again."))
