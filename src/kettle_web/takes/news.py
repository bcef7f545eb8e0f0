"""An open page is told what others change of what it shows."""

import asyncio
import json
import logging
from contextlib import suppress
from typing import ClassVar

from asgiref.sync import sync_to_async
from channels.generic.websocket import AsyncWebsocketConsumer
from django.db import DatabaseError

from kettle_web.frame.history import came_since
from kettle_web.models import Edited, Rig, Take

LOOK_EVERY_S = 0.5
log = logging.getLogger("kettle.live")
# Revisions of the document, and of all else that the page is drawn from.
Newest = tuple[int, int]


class NewsConsumer(AsyncWebsocketConsumer):
    """Sends `changed` with the revision and what was done, `again` when something else changed."""

    document: ClassVar[type[Edited]]

    def newest(self, pk: int) -> Newest | None:
        """What is now; None where nothing is left to tell of."""
        raise NotImplementedError

    async def connect(self) -> None:
        """Tell from now on."""
        await self.accept()
        self._watching = asyncio.create_task(self._watch(self.scope["url_route"]["kwargs"]["pk"]))

    async def disconnect(self, code: int) -> None:
        """Nobody is told any more."""
        self._watching.cancel()

    async def _watch(self, pk: int) -> None:
        told: Newest | None = None
        # A page that has just gone can't be sent to.
        with suppress(OSError):
            while True:
                try:
                    look = sync_to_async(self._look, thread_sensitive=False)
                    newest, words = await look(pk, told)
                except DatabaseError:
                    # It is busy, or away for a moment: what is new is told after that.
                    log.warning("News could not be looked for.", exc_info=True)
                    await asyncio.sleep(LOOK_EVERY_S)
                    continue
                if newest is None:
                    return
                # The page may be older than this connection.
                if told is None or newest[0] != told[0]:
                    await self._say("changed", {"revision": newest[0], "words": words})
                elif newest[1] != told[1]:
                    await self._say("again", {})
                told = newest
                await asyncio.sleep(LOOK_EVERY_S)

    async def _say(self, kind: str, values: dict[str, object]) -> None:
        await self.send(text_data=json.dumps({"kind": kind, "values": values}))

    def _look(self, pk: int, told: Newest | None) -> tuple[Newest | None, str]:
        """What is now, and what was changed since, in words."""
        newest = self.newest(pk)
        if newest is None or told is None or newest[0] == told[0]:
            return newest, ""
        return newest, came_since(self.document._base_manager.get(pk=pk), told[0])


class TakeNews(NewsConsumer):
    """Tells of changes of a take, and of its own rig."""

    document = Take

    def newest(self, pk: int) -> Newest | None:
        """Revisions of a take and of its own rig."""
        take = Take.objects.filter(pk=pk).only("revision").first()
        if take is None:
            return None
        rigs = Rig.with_takes.filter(of_take=pk).values_list("revision", flat=True)
        return take.revision, rigs.first() or 0
