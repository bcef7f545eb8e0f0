"""One WebSocket a page: status, levels and pictures of the engine, passed on as they come."""

import asyncio
import json
import time
from typing import Any, ClassVar

import zmq
import zmq.asyncio
from asgiref.sync import sync_to_async
from channels.generic.websocket import AsyncWebsocketConsumer
from django.conf import settings

from kettle_core.errors import KettleError
from kettle_engine.client import NOT_RUNNING
from kettle_engine.engine import IDLE
from kettle_engine.protocol import LEVELS, PICTURE, PROGRAM, STATUS, live_address
from kettle_web import services
from kettle_web.models import Rig

TOPICS = {"levels": LEVELS, "pictures": PICTURE, "program": PROGRAM}
SILENT_AFTER_S = 1.5
QUEUED = 8


class Hub:
    """One subscription to the engine for all pages; topics nobody wants are not asked for."""

    def __init__(self) -> None:
        self._consumers: set[LiveConsumer] = set()
        self._latest: dict[bytes, tuple[bytes, bytes, bytes]] = {}
        self._task: asyncio.Task[None] | None = None
        self._socket: zmq.asyncio.Socket | None = None
        self.heard_at = 0.0
        self.engine_state = ""

    def add(self, consumer: "LiveConsumer", topics: list[bytes]) -> None:
        """Pass on topics to a page."""
        if self._socket is None:
            self._socket = zmq.asyncio.Context.instance().socket(zmq.SUB)
            self._socket.rcvhwm = 60
            self._socket.connect(live_address(settings.DATA))
            self._task = asyncio.create_task(self._run(self._socket))
        self._consumers.add(consumer)
        for topic in topics:
            self._socket.subscribe(topic)
        # A display may stand still for long: what was shown last is shown at once.
        for message in self._latest.values():
            consumer.offer(*message)

    def remove(self, consumer: "LiveConsumer", topics: list[bytes]) -> None:
        """A page has gone; with the last one what was shown grows old."""
        if consumer not in self._consumers or self._socket is None:
            return
        self._consumers.discard(consumer)
        for topic in topics:
            self._socket.unsubscribe(topic)
        if not self._consumers:
            self._latest.clear()

    async def _run(self, socket: zmq.asyncio.Socket) -> None:
        while True:
            topic, header, body = await socket.recv_multipart()
            if topic == STATUS:
                self.heard_at = time.monotonic()
                self.engine_state = json.loads(header)["state"]
            self._latest[topic] = (topic, header, body)
            for consumer in list(self._consumers):
                consumer.offer(topic, header, body)


class LiveConsumer(AsyncWebsocketConsumer):
    """Sends JSON for status and levels; a picture as a name, a zero byte and a JPEG."""

    hub: ClassVar[Hub] = Hub()

    async def connect(self) -> None:
        """Open the rig and pass on what the page asks for (?want=levels,pictures)."""
        query = self.scope["query_string"].decode()
        wanted = query.removeprefix("want=").split(",")
        self._topics = [STATUS, *(TOPICS[name] for name in wanted if name in TOPICS)]
        self._queue: asyncio.Queue[tuple[bytes, bytes, bytes]] = asyncio.Queue(QUEUED)
        await self.accept()
        self.hub.add(self, self._topics)
        self._tasks = [asyncio.create_task(self._send_all()), asyncio.create_task(self._watch())]

    async def disconnect(self, code: int) -> None:
        """Stop passing on."""
        self.hub.remove(self, self._topics)
        for task in self._tasks:
            task.cancel()

    def offer(self, topic: bytes, header: bytes, body: bytes) -> None:
        """Take a message; a page that is too slow loses the oldest one."""
        if not any(topic.startswith(wanted) for wanted in self._topics):
            return
        if self._queue.full():
            self._queue.get_nowait()
        self._queue.put_nowait((topic, header, body))

    async def _send_all(self) -> None:
        while True:
            topic, header, body = await self._queue.get()
            if body:
                name = "program" if topic == PROGRAM else json.loads(header)["input"]
                await self.send(bytes_data=name.encode() + b"\0" + body)
            else:
                kind = "levels" if topic == LEVELS else "status"
                await self.send(text_data=json.dumps({"kind": kind, "values": json.loads(header)}))

    async def _watch(self) -> None:
        """Have the rig open, again after the engine was away, and say so meanwhile."""
        slug = self.scope["url_route"]["kwargs"]["slug"]
        opened = False
        while True:
            away = time.monotonic() - self.hub.heard_at > SILENT_AFTER_S
            # An engine that came back before it was missed has no rig open.
            if away or not opened or self.hub.engine_state == IDLE:
                opened = await self._open(slug)
            await asyncio.sleep(1.0)

    async def _open(self, slug: str) -> bool:
        try:
            await sync_to_async(_open_rig, thread_sensitive=False)(slug)
        except KettleError as error:
            await self._tell("absent" if str(error) == NOT_RUNNING else "failed", str(error))
            return False
        return True

    async def _tell(self, state: str, message: str) -> None:
        values: dict[str, Any] = {"state": state, "message": message}
        await self.send(text_data=json.dumps({"kind": "status", "values": values}))


def _open_rig(slug: str) -> None:
    rig = Rig.objects.filter(slug=slug).first()
    if rig is not None:
        services.engine().ask("open_rig", rig=rig.document)
