"""A page plays something from its plan: orders go to a player, pictures and sound come from it."""

import asyncio
import json
import logging
from math import isfinite
from typing import Any

from asgiref.sync import sync_to_async
from channels.generic.websocket import AsyncWebsocketConsumer
from django.core.exceptions import ObjectDoesNotExist

from kettle_core.errors import KettleError
from kettle_media.player.messages import Message
from kettle_media.player.show import Named, named_take
from kettle_media.player.tempo import LIMITS
from kettle_web.models import Take
from kettle_web.takes.players import PlayerLine

log = logging.getLogger("kettle.player")
FAILED = "The player failed, which its log explains. Press Play to start it anew."

LONGEST_S = 1e7


class PlayConsumer(AsyncWebsocketConsumer):
    """Takes orders as JSON, sends messages as a player packs them (`kettle_media.player`)."""

    GONE = ""

    def named(self, pk: int) -> Named:
        """What is played now.

        Raises
        ------
        ObjectDoesNotExist
            If it is gone.
        KettleError
            If there is nothing to be played.
        """
        raise NotImplementedError

    def warm_up(self) -> None:
        """Have ready what players are made of."""
        PlayerLine.nest.warm_up()

    async def connect(self) -> None:
        """Find what is played; what it plays with is got ready, and started by the first order."""
        await self.accept()
        await asyncio.to_thread(self.warm_up)
        self._turn = 0
        self._line: PlayerLine | None = None
        self._pumping: asyncio.Task[None] | None = None
        try:
            await self._named()
        except (ObjectDoesNotExist, KettleError) as error:
            await self._trouble(str(error) if isinstance(error, KettleError) else self.GONE)
            await self.close(4404)
            return
        self._line = PlayerLine(self._named)
        self._pumping = asyncio.create_task(self._pump(self._line))
        self._pumping.add_done_callback(self._see_end)

    async def receive(self, text_data: str | None = None, bytes_data: bytes | None = None) -> None:
        """An order; what is none ends the connection and nothing else."""
        try:
            order = read_order(json.loads(text_data or ""))
        except (ValueError, KeyError, TypeError, AttributeError, RecursionError, OverflowError):
            await self.close(4400)
            return
        self._turn = order["turn"]
        if self._line:
            try:
                await self._line.say(order, order.pop("anew"))
            except ObjectDoesNotExist:
                await self._trouble(self.GONE)
            except KettleError as error:
                await self._trouble(str(error))

    async def _named(self) -> Named:
        pk = self.scope["url_route"]["kwargs"]["pk"]
        found: Named = await sync_to_async(self.named, thread_sensitive=False)(pk)
        return found

    async def disconnect(self, code: int) -> None:
        """Nobody looks any more."""
        if self._line:
            self._line.end()
        if self._pumping:
            self._pumping.cancel()

    async def _pump(self, line: PlayerLine) -> None:
        async for message in line.messages():
            if message is None:
                await self._trouble(FAILED)
            else:
                await self.send(bytes_data=message)

    async def _trouble(self, words: str) -> None:
        message = Message(Message.TROUBLE, self._turn, 0.0, words.encode())
        await self.send(bytes_data=message.packed())

    def _see_end(self, task: asyncio.Task[None]) -> None:
        # A page that has just gone can't be sent to, which is no fault.
        fault = None if task.cancelled() else task.exception()
        if fault and not isinstance(fault, OSError):
            log.error("The connection of a player failed.", exc_info=fault)


class TakeConsumer(PlayConsumer):
    """Plays a take."""

    GONE = "This take was deleted. The library's bin has it."

    def named(self, pk: int) -> Named:
        """The take's folder."""
        return named_take(Take.objects.get(pk=pk).path)


def read_order(asked: dict[str, Any]) -> dict[str, Any]:
    """An order of a page. Raises ValueError, KeyError, TypeError where it is none."""
    turn, rate = int(asked["turn"]), float(asked["rate"])
    at_s, late_s = float(asked["at"]), float(asked.get("late", 0))
    if not (0 <= turn < 2**31 and LIMITS[0] <= rate <= LIMITS[1]):
        raise ValueError("no order")
    if not (isfinite(at_s) and 0 <= late_s < LONGEST_S):
        raise ValueError("no order")
    flags = {name: bool(asked.get(name)) for name in ("playing", "anew")}
    loop = [float(end) for end in asked.get("loop") or ()]
    if loop and not (len(loop) == 2 and 0 <= loop[0] < loop[1] < LONGEST_S):
        raise ValueError("no loop")
    at_s = min(max(at_s, 0.0), LONGEST_S)
    return {"turn": turn, "at": at_s, "rate": rate, "loop": loop, "late": late_s, **flags}
