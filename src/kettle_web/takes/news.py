"""An open take page is told what others change of the take, or of its own rig."""

import asyncio
import json
from contextlib import suppress

from asgiref.sync import sync_to_async
from channels.generic.websocket import AsyncWebsocketConsumer

from kettle_web.frame.editing import came_since
from kettle_web.models import Rig, Take

LOOK_EVERY_S = 0.5
Newest = tuple[int, int]


class NewsConsumer(AsyncWebsocketConsumer):
    """Sends `changed` with the revision and what was done, `again` when its own rig changed."""

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
                newest, words = await sync_to_async(_newest, thread_sensitive=False)(pk, told)
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


def _newest(pk: int, told: Newest | None) -> tuple[Newest | None, str]:
    """Revisions of a take and of its own rig, and what was changed since; None without a take."""
    take = Take.objects.filter(pk=pk).only("revision").first()
    if take is None:
        return None, ""
    rig = Rig.with_takes.filter(of_take=pk).values_list("revision", flat=True).first() or 0
    newest = take.revision, rig
    words = came_since(take, told[0]) if told and told[0] != take.revision else ""
    return newest, words
