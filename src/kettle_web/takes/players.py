"""Players, as pages' connections have them: each a process of its own."""

import asyncio
import json
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import suppress
from typing import Any, ClassVar

from kettle_media.player.messages import LENGTH
from kettle_media.player.nest import Nest
from kettle_media.player.show import Named

# Each opens the tracks of a take (some 100 MB): of more the one that was asked longest ago ends.
MOST = 4


class PlayerLine:
    """A page's player: begun when it is first asked for, and again when it has ended.

    `named` says what is to be played, as it is by then.
    """

    nest: ClassVar[Nest] = Nest()
    running: ClassVar[list["PlayerLine"]] = []

    def __init__(self, named: Callable[[], Awaitable[Named]]) -> None:
        self._named = named
        self._writer: asyncio.StreamWriter | None = None
        self._reader: asyncio.StreamReader | None = None
        self._begins = asyncio.Event()

    async def say(self, order: dict[str, Any], anew: bool) -> None:
        """Give it an order; `anew` if what is played is another one by now."""
        if self._writer is None:
            anew = True
            await self._begin()
        if self in self.running:
            self.running.remove(self)
            self.running.append(self)
        for line in (*([{"play": await self._named()}] if anew else []), order):
            if self._writer:
                # One that is just ending is missed by who reads from it.
                with suppress(ConnectionError):
                    self._writer.write(json.dumps(line).encode() + b"\n")
                    await self._writer.drain()

    async def messages(self) -> AsyncIterator[bytes | None]:
        """All that it says; None when it failed."""
        while True:
            await self._begins.wait()
            reader, bye = self._reader, False
            with suppress(asyncio.IncompleteReadError, ConnectionError):
                while reader and not bye:
                    (length,) = LENGTH.unpack(await reader.readexactly(LENGTH.size))
                    bye = not length
                    if length:
                        yield await reader.readexactly(length)
            if self._reader is reader:
                self.end()
                if not bye:
                    yield None

    def end(self) -> None:
        """Hang up: it ends then, and another one begins with the next order."""
        if self._writer:
            self._writer.close()
        self._writer = self._reader = None
        self._begins.clear()
        if self in self.running:
            self.running.remove(self)

    async def _begin(self) -> None:
        while len(self.running) >= MOST:
            self.running[0].end()
        self.running.append(self)
        line = self.nest.player()
        self._reader, self._writer = await asyncio.open_connection(sock=line)
        self._begins.set()
