"""A command that came in at one of the engine's doors."""

import json
import time
from collections import OrderedDict
from collections.abc import Callable
from typing import Any

from kettle_core.errors import EngineError, KettleError

KNOWN_IDS = 1000


class Question:
    """A command as it came, and the way back to who asked."""

    def __init__(self, body: bytes, send: Callable[[bytes], None]) -> None:
        self._send = send
        self._answered: bytes | None = None
        self._others: list[Question] = []
        self.values: dict[str, Any] = {}
        self.do = self.id = ""
        # A command without a deadline is as old as its arrival.
        self.deadline_ns = time.monotonic_ns() + 20 * 10**9
        try:
            read = json.loads(body)
            if not isinstance(read, dict):
                raise TypeError("a command is an object")
            self.do = str(read.pop("do", ""))
            self.id = str(read.pop("id", ""))
            self.deadline_ns = int(read.pop("deadline_ns", self.deadline_ns))
            self.values = read
        except (TypeError, ValueError, RecursionError) as error:
            self.answer(EngineError(f"The engine does not know this command: {error!r}."))

    @property
    def is_answered(self) -> bool:
        """Whether nothing is left to be done."""
        return self._answered is not None

    def answer(self, value: Any) -> None:
        """Send an answer, or an error."""
        if isinstance(value, KettleError):
            answer = {"error": str(value), "field": getattr(value, "field", "")}
        else:
            answer = {"ok": value}
        self._answered = json.dumps(answer).encode()
        self._send(self._answered)
        for other in self._others:
            other._send(self._answered)

    def answer_too(self, other: "Question") -> None:
        """Have another one, which is this one sent again, get the same answer."""
        if self._answered is None:
            self._others.append(other)
        else:
            other._send(self._answered)


class Once:
    """Commands that carry an id count once, however often they are sent."""

    def __init__(self) -> None:
        self._known: OrderedDict[str, Question] = OrderedDict()

    def is_new(self, question: Question) -> bool:
        """Whether it is to be done; otherwise it gets the answer of the one that came before."""
        if not question.id:
            return True
        before = self._known.setdefault(question.id, question)
        if before is not question:
            before.answer_too(question)
            return False
        while len(self._known) > KNOWN_IDS:
            self._known.popitem(last=False)
        return True
