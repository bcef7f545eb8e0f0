"""Who asked for the rings of a rig's pictures, and waits until their devices are live."""

import time
from dataclasses import dataclass

from kettle_core.errors import EngineError
from kettle_core.rig.rig import Input, Rig
from kettle_engine.devices.report import LIVE
from kettle_engine.hosts import Hosts
from kettle_engine.questions import Way

# So long pictures come as they do for a take.
WANTED_S = 9.0
# One that is away is waited for so long, one that opens, or of which nothing is known yet, longer:
# on a busy machine the first opening takes ten seconds. Who asks waits for 20.
PATIENCE_S, OPENING_PATIENCE_S = 4.0, 15.0


@dataclass
class _Ask:
    items: list[Input]
    way: Way
    since_s: float


class RingAsks:
    """`wanted` are the inputs whose pictures are needed as they come."""

    def __init__(self, hosts: Hosts) -> None:
        self._hosts = hosts
        self._asks: list[_Ask] = []
        self._wanted: dict[str, float] = {}

    @property
    def wanted(self) -> frozenset[str]:
        """Inputs by their ids."""
        return frozenset(self._wanted)

    def ask(self, rig: Rig, way: Way) -> None:
        """Answer, when they are live, with the files of the rings by input ids.

        Raises
        ------
        EngineError
            If no picture of the rig has a track.
        """
        items = [i for i in rig.inputs if i.has_track and i.is_picture]
        if not items:
            raise EngineError("No picture of this rig has a track, so there is nothing to try.")
        now_s = time.monotonic()
        self._want(items, now_s + OPENING_PATIENCE_S)
        self._asks.append(_Ask(items, way, now_s))

    def _want(self, items: list[Input], from_s: float) -> None:
        self._wanted |= {i.id: from_s + WANTED_S for i in items}

    def tick(self) -> bool:
        """Answer who can be answered; whether other pictures are wanted than before."""
        now_s, reports = time.monotonic(), self._hosts.reports
        for ask in list(self._asks):
            silent = [
                i.name
                for i in ask.items
                if i.id not in reports or reports[i.id].state != LIVE or not reports[i.id].ring
            ]
            if not silent:
                self._asks.remove(ask)
                self._want(ask.items, now_s)
                ask.way.reply({i.id: str(reports[i.id].ring) for i in ask.items})
            elif now_s > ask.since_s + self._patience_s(ask.items):
                self._asks.remove(ask)
                names = " and ".join(silent)
                told = f"{names} cannot be seen, so nothing was tried. Plug it in and try again."
                ask.way.reply(EngineError(told))
        before = len(self._wanted)
        self._wanted = {name: until for name, until in self._wanted.items() if until > now_s}
        return len(self._wanted) != before

    def _patience_s(self, items: list[Input]) -> float:
        away = any(self._hosts.is_missing(i) for i in items)
        return PATIENCE_S if away else OPENING_PATIENCE_S
