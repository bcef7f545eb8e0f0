"""One WebSocket a page: status, levels and pictures of the engine, passed on as they come."""

import asyncio
import json
import logging
import re
import time
from collections import Counter
from collections.abc import Awaitable, Callable, Iterable
from contextlib import suppress
from dataclasses import dataclass
from math import isfinite
from typing import Any, ClassVar
from urllib.parse import parse_qs

import zmq
import zmq.asyncio
from asgiref.sync import sync_to_async
from channels.generic.websocket import AsyncWebsocketConsumer

from kettle_core.errors import EngineError, KettleError
from kettle_engine.client import NOT_RUNNING
from kettle_engine.protocol import (
    AFTER,
    COUNTDOWN,
    FINISHING,
    IDLE,
    IN_TAKE,
    LEVELS,
    PROGRAM,
    RECORDING,
    SCENE_SIZES,
    SIZES,
    STATUS,
    after_topic,
    hear_topic,
    picture_topic,
)
from kettle_media.rig_document import SCENE
from kettle_web.frame.history import came_since
from kettle_web.frame.threads import ENGINE
from kettle_web.models import Rig
from kettle_web.rigs.engines import engine_of, live_of
from kettle_web.scenes.changes import tried_scene
from kettle_web.takes.players import PlayerLine

TOPICS = {"levels": LEVELS, "program": PROGRAM}

log = logging.getLogger("kettle.live")
SILENT_AFTER_S = 1.5

LOOK_EVERY_S = 0.3

SPARES_EVERY_S = 2.0

QUEUED = 24

# Ids of inputs and scenes, and of devices, which may be paths of drivers.
NAME = re.compile(r"[\w./: -]{1,120}", re.ASCII)
MOST_PICTURES, MOST_AFTER = 64, 2

ELSEWHERE = (
    "The rig “{name}” was opened on another page, so its inputs are live now and not these. "
    "Reload this page to see these again."
)

Message = tuple[bytes, bytes, bytes]


def asking(function: Callable[..., None]) -> Callable[..., Awaitable[None]]:
    """A function that asks an engine, which may hang: nothing else waits for the same threads."""
    return sync_to_async(function, thread_sensitive=False, executor=ENGINE)


class Hub:
    """One subscription for all pages to who shows rigs; topics nobody wants are not asked for.

    Parameters
    ----------
    address : where it is published; "" for the engine of the data folder
    """

    def __init__(self, address: str = "") -> None:
        self._address = address
        self._consumers: set[LiveConsumer] = set()
        self._latest: dict[bytes, Message] = {}
        self._asked: Counter[bytes] = Counter()
        self._task: asyncio.Task[None] | None = None
        self._socket: zmq.asyncio.Socket | None = None
        self.heard_at = 0.0
        self.engine_state = ""
        # By rig when it was heard last that it is open.
        self.shown_at: dict[str, float] = {}

    def join(self, consumer: "LiveConsumer") -> None:
        """Pass on to a page what it asks for from now on."""
        if self._socket is None:
            self._socket = zmq.asyncio.Context.instance().socket(zmq.SUB)
            self._socket.rcvhwm = 120
            self._socket.connect(self._address or live_of(None))
            for topic in self._asked:
                self._socket.subscribe(topic)
            self._task = asyncio.create_task(self._run(self._socket))
            self._task.add_done_callback(self._see_end)
        self._consumers.add(consumer)

    def _see_end(self, task: asyncio.Task[None]) -> None:
        """A fault of ours must not freeze every page: all connect anew, and so does the hub."""
        if task.cancelled():
            return
        log.error("The live connection to the engine failed.", exc_info=task.exception())
        if self._socket:
            self._socket.close()
        self._socket = None
        for consumer in list(self._consumers):
            consumer.end()

    def leave(self, consumer: "LiveConsumer") -> None:
        """A page has gone."""
        self._consumers.discard(consumer)

    @property
    def is_left(self) -> bool:
        """Whether no page is there any more."""
        return not self._consumers

    def close(self) -> None:
        """Let go of what was asked for."""
        if self._task:
            self._task.cancel()
        if self._socket:
            self._socket.close(linger=0)
        self._task = self._socket = None

    def ask(self, consumer: "LiveConsumer", topics: Iterable[bytes]) -> None:
        """A page wants topics; what was shown last is shown at once, as it may stand still."""
        for topic in topics:
            self._asked[topic] += 1
            if self._asked[topic] == 1 and self._socket:
                self._socket.subscribe(topic)
            elif topic in self._latest:
                consumer.offer(*self._latest[topic])

    def forget(self, topics: Iterable[bytes]) -> None:
        """A page does not want topics any more."""
        for topic in topics:
            self._asked[topic] -= 1
            if self._asked[topic] <= 0 and self._socket:
                self._socket.unsubscribe(topic)
                self._latest.pop(topic, None)
                del self._asked[topic]

    async def _run(self, socket: zmq.asyncio.Socket) -> None:
        while True:
            topic, header, body = await socket.recv_multipart()
            if topic == STATUS:
                self.heard_at = time.monotonic()
                values = json.loads(header)
                self.engine_state = values["state"]
                self.shown_at[values.get("rig", "")] = self.heard_at
            if topic in self._asked:
                self._latest[topic] = (topic, header, body)
            for consumer in list(self._consumers):
                consumer.offer(topic, header, body)


class LiveConsumer(AsyncWebsocketConsumer):
    """Sends JSON for status and levels; a picture as a name, a zero byte and a JPEG.

    The page says which pictures it shows: {"look": {"small": [ids], "rest": [ids], …}},
    and under "after" which sounds it shows after their chain, under
    "hear" the one it plays. With "hidden" it is not seen, and is told how things stand alone.
    """

    hub: ClassVar[Hub] = Hub()
    # Of takes that are shown in place of devices, by where they are published.
    others: ClassVar[dict[str, Hub]] = {}

    async def connect(self) -> None:
        """Open the rig and pass on what the page asks for (?want=levels,program&spares=1).

        With "player" wanted too, a take that comes of it will be played at once.
        """
        query = parse_qs(self.scope["query_string"].decode(errors="replace"))
        wanted = ",".join(query.get("want", [])).split(",")
        self._spares = "spares" in query
        self._slug = self.scope["url_route"]["kwargs"]["slug"]
        self._always = {STATUS, *(TOPICS[name] for name in wanted if name in TOPICS)}
        self._topics = set(self._always)
        self._queue: asyncio.Queue[Message] = asyncio.Queue(QUEUED)
        self._tried: dict[str, Any] | None = None
        self._trying: asyncio.Task[None] | None = None
        await self.accept()
        if "player" in wanted:
            await asyncio.to_thread(PlayerLine.nest.warm_up)
        address = await sync_to_async(_address_of, thread_sensitive=False)(self._slug)
        self._address = address
        self._hub = self.others.setdefault(address, Hub(address)) if address else self.hub
        self._hub.join(self)
        self._hub.ask(self, self._topics)
        self._tasks = [asyncio.create_task(self._send_all()), asyncio.create_task(self._watch())]
        for task in self._tasks:
            task.add_done_callback(self._see_end)

    def _see_end(self, task: asyncio.Task[None]) -> None:
        """A fault of ours ends the connection; the page makes it anew and does not freeze."""
        # A page that has just gone can't be sent to, which is no fault.
        fault = None if task.cancelled() else task.exception()
        if fault and not isinstance(fault, OSError):
            log.error("A live connection failed.", exc_info=fault)
        if fault:
            self.end()

    def end(self) -> None:
        """Have the page connect anew."""
        self._closing = asyncio.create_task(self.close(1011))

    async def disconnect(self, code: int) -> None:
        """Stop passing on."""
        self._hub.leave(self)
        self._hub.forget(self._topics)
        if self._address and self._hub.is_left:
            self._hub.close()
            self.others.pop(self._address, None)
        for task in self._tasks:
            task.cancel()

    async def receive(self, text_data: str | None = None, bytes_data: bytes | None = None) -> None:
        """The page shows other pictures now, or tries a scene; what is neither is left alone."""
        try:
            message = json.loads(text_data or "")
            if "try" in message:
                self._try(message["try"])
                return
            if "head" in message:
                head = float(message["head"]["at"]), bool(message["head"]["playing"])
                await asking(_go)(self._slug, *head)
                return
            look = message["look"]
            topics = {
                picture_topic(size, name)
                for size in (*SIZES, *SCENE_SIZES)
                for name in _names(look, size, MOST_PICTURES)
            }
            topics |= {after_topic(name) for name in _names(look, "after", MOST_AFTER)}
            topics |= {hear_topic(name) for name in _names(look, "hear", 1)}
        except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
            # What no page of ours sends ends this connection, and nothing else.
            await self.close(4400)
            return
        topics |= {STATUS} if message.get("hidden") else self._always
        before, self._topics = self._topics, topics
        self._hub.ask(self, topics - before)
        self._hub.forget(before - topics)

    def _try(self, tried: dict[str, Any]) -> None:
        """Have layers shown where they would lie; only the newest counts, one at a time."""
        self._tried = tried
        if self._trying is None or self._trying.done():
            self._trying = asyncio.create_task(self._try_newest())

    async def _try_newest(self) -> None:
        while self._tried is not None:
            tried, self._tried = self._tried, None
            # The drop is saved by the form, which says what is wrong with it.
            with suppress(KettleError, Rig.DoesNotExist, KeyError, TypeError, AttributeError):
                await asking(_try_layers)(self._slug, tried)

    def offer(self, topic: bytes, header: bytes, body: bytes) -> None:
        """Take a message; a page that is too slow loses the oldest one."""
        if topic not in self._topics:
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
                kind = "after" if topic.startswith(AFTER) else kind
                values = json.loads(header)
                if values.get("rig", self._slug) not in ("", self._slug):
                    values["message"] = ELSEWHERE.format(name=values["rig_name"])
                await self.send(text_data=json.dumps({"kind": kind, "values": values}))

    async def _watch(self) -> None:
        """Have the rig open as it is now, again after the engine was away, and say so meanwhile."""
        slug = self._slug
        opened, told, asked_at = 0, 0, 0.0
        had, begun = False, time.monotonic()
        while True:
            now = time.monotonic()
            # An answer that came too late is none, but what was asked for may have been done.
            had = had or self._hub.shown_at.get(slug, 0.0) > begun
            away = now - self._hub.heard_at > SILENT_AFTER_S
            # An engine that came back before it was missed has no rig open.
            # What it said before it was asked is no sign of that.
            idle = self._hub.engine_state == IDLE and now - asked_at > SILENT_AFTER_S
            lapsed = away or not opened or idle
            lapsed = lapsed or (self._spares and now - asked_at > SPARES_EVERY_S)
            # A take keeps its rig; what was changed meanwhile is opened after it.
            free = away or self._hub.engine_state not in (COUNTDOWN, RECORDING, FINISHING)
            try:
                newest = await sync_to_async(_newest_change, thread_sensitive=False)(slug, told)
                if newest.revision != told:
                    told = newest.revision
                    await self.send(
                        text_data=json.dumps({"kind": "changed", "values": vars(newest)})
                    )
                if told and free and (lapsed or told != opened):
                    # What was changed is shown; who only heard nothing for a while takes nothing
                    # away from a page that has opened its own rig meanwhile.
                    again = had and opened in (0, told)
                    await asking(_open_rig)(slug, self._spares, again)
                    opened, asked_at, had = told, now, True
            except KettleError as error:
                # A take that was not heard of is no fault: what was changed is opened after it.
                if str(error) != IN_TAKE:
                    opened = 0
                    state = "absent" if str(error) == NOT_RUNNING else "failed"
                    await self._tell(state, str(error))
                await asyncio.sleep(1.0)
            await asyncio.sleep(LOOK_EVERY_S)

    async def _tell(self, state: str, message: str) -> None:
        values: dict[str, Any] = {"state": state, "message": message}
        await self.send(text_data=json.dumps({"kind": "status", "values": values}))


def _names(look: dict[str, list[str]], part: str, most: int) -> list[str]:
    """Names of inputs, devices or scenes in a part of a message. Raises ValueError."""
    found = look.get(part, [])[:most]
    if not all(isinstance(name, str) and NAME.fullmatch(name) for name in found):
        raise ValueError("no names")
    return found


@dataclass(frozen=True)
class _Newest:
    """A rig's revision, 0 without the rig, and what was changed last."""

    revision: int
    words: str = ""


def _newest_change(slug: str, told: int) -> _Newest:
    rig = Rig.with_takes.filter(slug=slug).defer("document").first()
    if rig is None or rig.revision == told:
        return _Newest(rig.revision if rig else 0)
    return _Newest(rig.revision, came_since(rig, max(told, rig.revision - 1)))


def _rig_of(slug: str) -> Rig | None:
    return Rig.with_takes.select_related("of_take").filter(slug=slug).first()


def _address_of(slug: str) -> str:
    """Where a take's own rig is published; "" for what the engine shows."""
    take_pk = Rig.with_takes.filter(slug=slug).values_list("of_take", flat=True).first()
    return live_of(take_pk) if take_pk else ""


def _open_rig(slug: str, spares: bool, again: bool) -> None:
    """Open a rig; `again` only where no other one is open."""
    rig = _rig_of(slug)
    if rig is None:
        return
    shows = engine_of(rig)
    if again and shows.ask("status").get("rig", slug) not in ("", slug):
        return
    shows.ask("open_rig", rig=rig.document, spares=spares, owner=slug)


def _go(slug: str, at_s: float, playing: bool) -> None:
    """Have a take that is shown stand or move on at a time of it."""
    rig = _rig_of(slug)
    with suppress(EngineError):
        if rig and rig.of_take and isfinite(at_s):
            engine_of(rig).ask("head", at=at_s, playing=playing)


def _try_layers(slug: str, tried: dict[str, Any]) -> None:
    rig = Rig.with_takes.select_related("of_take").get(slug=slug)
    scene = tried_scene(rig.values, str(tried["scene"]), tried["layers"])
    engine_of(rig).ask("try_scene", scene=SCENE.plain(scene))
