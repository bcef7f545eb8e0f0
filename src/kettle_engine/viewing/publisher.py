"""Publishes what pages show, and only what somebody has subscribed to."""

import json
import time
import traceback
from collections.abc import Callable
from pathlib import Path
from typing import Any, Protocol

import zmq

from kettle_core.errors import KettleError
from kettle_engine.protocol import (
    AFTER,
    HEAR,
    LEVELS,
    PICTURE,
    PROGRAM,
    RECORDING,
    SCENE_SIZES,
    SHOWN_WIDTH,
    SIZES,
    STATUS,
    WHOLE,
)
from kettle_engine.viewing.after_meter import AfterMeter
from kettle_engine.viewing.jpeg import picture_to_page_jpeg
from kettle_engine.viewing.live import Live
from kettle_engine.viewing.scene_pictures import ScenePictures, shrunk_for_page
from kettle_engine.viewing.small import labelled, small_picture

LEVELS_EVERY_S, STATUS_EVERY_S = 0.05, 0.25
# While a take is recorded the program is shown less often: what shows gives way.
PROGRAM_EVERY_S, IN_TAKE_EVERY_S = 1 / 15, 1 / 10
TICK_S = 0.012
LIVELY_TICK_S = 0.003
# While a layer is dragged or a change-over is played.
LIVELY_EVERY_S = 1 / 40
CLOSE_AFTER_S = 20.0
IDENTIFY_S = 4.0


class Shows(Protocol):
    """What the publisher tells of, and to whom it says what is looked at."""

    live: Live | None

    def status(self) -> dict[str, Any]:
        """Figures for pages."""

    def tell_wanted(self, names: frozenset[str]) -> None:
        """Whose pictures are looked at now."""


class Publisher:
    """Owns the PUB socket and knows from it which topics are watched. For one thread."""

    def __init__(self, shows: Shows, address: str, library: Path) -> None:
        self._shows = shows
        self._socket: zmq.Socket[bytes] = zmq.Context.instance().socket(zmq.XPUB)
        self._socket.setsockopt(zmq.XPUB_VERBOSER, 1)
        self._socket.set_hwm(60)
        self._socket.bind(address)
        self._watched: dict[bytes, int] = {}
        self._sent: dict[bytes, tuple[float, int]] = {}
        self._wanted: frozenset[str] | None = None
        self._scenes = ScenePictures(library)
        self._afters: dict[str, AfterMeter] = {}
        self._identify_until_s = 0.0
        self.watched_at_s = time.monotonic()
        self._jobs = {
            LEVELS: (LEVELS_EVERY_S, self._levels),
            PROGRAM: (PROGRAM_EVERY_S, self._program),
            STATUS: (STATUS_EVERY_S, self._status),
            AFTER: (LEVELS_EVERY_S, self._after),
        }
        self._due_s = dict.fromkeys(self._jobs, 0.0)

    def close(self) -> None:
        """Let the socket go."""
        self._socket.close(linger=0)

    def identify(self) -> None:
        """Lay a large label over every display's live picture for some seconds."""
        self._identify_until_s = time.monotonic() + IDENTIFY_S
        self._sent.clear()

    def forget_wanted(self) -> None:
        """Tell anew whose pictures are looked at."""
        self._wanted = None

    def step(self) -> float:
        """Publish what is due; gives how long to wait for the next step, s."""
        self._read_subscriptions()
        if any(self._watched.values()):
            self.watched_at_s = time.monotonic()
        self._do_due()
        self._do(self._pictures)
        live = self._shows.live
        return LIVELY_TICK_S if live and (live.tried or live.played) else TICK_S

    def _do_due(self) -> None:
        """Levels, program and status at their times; also between two pictures."""
        now = time.monotonic()
        for topic, (every_s, work) in self._jobs.items():
            if now >= self._due_s[topic]:
                in_take = topic == PROGRAM and self._shows.status()["state"] == RECORDING
                step_s = IN_TAKE_EVERY_S if in_take else every_s
                self._due_s[topic] = max(self._due_s[topic] + step_s, now)
                if self._watched.get(topic) or topic == AFTER:
                    self._do(work)

    def _read_subscriptions(self) -> None:
        while self._socket.poll(0):
            message = self._socket.recv()
            topic, change = message[1:], 1 if message[0] else -1
            self._watched[topic] = max(0, self._watched.get(topic, 0) + change)
            if message[0]:
                self._sent.pop(topic, None)
            if not self._watched[topic]:
                del self._watched[topic]

    def _do(self, work: Callable[[Live], None]) -> None:
        live = self._shows.live
        try:
            if live or work == self._status:
                work(live)  # type: ignore[arg-type]
        except KettleError as error:
            self._send(STATUS, {"state": "failed", "message": str(error)})
        except Exception:  # one picture's mistake must not end the pages' pictures for good
            traceback.print_exc()

    def _send(self, topic: bytes, header: dict[str, Any], body: bytes = b"") -> None:
        self._socket.send_multipart([topic, json.dumps(header).encode(), body])

    def _status(self, _: Live | None) -> None:
        self._send(STATUS, self._shows.status())

    def _levels(self, live: Live) -> None:
        self._send(LEVELS, {name: meter.read() for name, meter in list(live.meters.items())})

    def _after(self, live: Live) -> None:
        """Levels after the chain, of what a page looks at; a take needs the time for itself."""
        names = {t[len(AFTER) :].decode() for t in self._watched if t.startswith(AFTER)}
        for name in self._afters.keys() - names:
            del self._afters[name]
            if name in live.meters:
                live.meters[name].after = None
        for name in names & live.meters.keys():
            meter, after = live.meters[name], self._afters.get(name)
            if after is None or after.input != meter.input or meter.after != after.take:
                after = self._afters[name] = AfterMeter(meter.input)
                meter.after = after.take
            if self._shows.status()["state"] != RECORDING:
                self._send(AFTER + name.encode(), after.read())
                if HEAR + name.encode() in self._watched:
                    header = {"input": f"hear:{name}"}
                    self._send(HEAR + name.encode(), header, after.heard())

    def _program(self, live: Live) -> None:
        self._send_scene(live, PROGRAM, live.rig.default_scene.id, "", SHOWN_WIDTH, 82)

    def _send_scene(
        self, live: Live, topic: bytes, scene_id: str, layer_id: str, width: int, quality: int
    ) -> None:
        """A scene's picture, or a layer's matte in it, if it looks different from the last one."""
        if layer_id:
            shown = self._scenes.matte(live, scene_id, layer_id)
        else:
            shown = self._scenes.shown(live, scene_id)
        if shown is None or self._sent.get(topic, (0.0, 0))[1] == shown.stamp:
            return
        self._sent[topic] = (time.monotonic(), shown.stamp)
        name = topic.decode().rpartition("/")[2]
        small = shrunk_for_page(shown.frame, width)
        self._send(topic, {"input": name}, picture_to_page_jpeg(small, quality))

    def _pictures(self, live: Live) -> None:
        now = time.monotonic()
        topics = [t for t in self._watched if t.startswith(PICTURE)]
        self._tell_wanted(live, topics)
        identifying = now < self._identify_until_s
        if live.played or live.tried:
            # What somebody drags or plays is waited for; the rest stands still meanwhile.
            topics = self._lively(live, topics)
        for topic in topics:
            size, _, name = topic.decode()[len(PICTURE) :].partition("/")
            if size in SCENE_SIZES:
                self._scene_picture(live, topic, size, name)
                continue
            if size == "whole" and WHOLE + name in live.inputs:
                newest, item = live.newest(WHOLE + name), live.inputs.get(WHOLE + name)
            else:
                newest, item = live.newest(name), live.inputs.get(name)
            if size not in SIZES or newest is None or item is None:
                continue
            box, every_s, quality = SIZES[size]
            labels = identifying and item.kind == "display"
            number = hash((newest.number, labels, item.looks, id(live)))
            sent_s, sent_number = self._sent.get(topic, (0.0, -1))
            if number == sent_number or now - sent_s < every_s:
                continue
            self._sent[topic] = (now, number)
            picture = newest.picture
            small = small_picture(picture, *box)
            if labels:
                small = labelled(small, item)
            header = {"input": name, "width": picture.width, "height": picture.height}
            self._send(topic, header, picture_to_page_jpeg(small, quality))
            self._do_due()

    def _lively(self, live: Live, topics: list[bytes]) -> list[bytes]:
        sheets = [t for t in topics if t.startswith(PICTURE + b"scene/")]
        now = time.monotonic()
        if live.played or any(live.tried_scene(s, now) for s in live.tried):
            return sheets
        return topics

    def _scene_picture(self, live: Live, topic: bytes, size: str, name: str) -> None:
        """`name` is scene:ID, thumb:ID or matte:ID:LAYER, so that it differs from an input's."""
        width, every_s, quality = SCENE_SIZES[size]
        _, scene_id, layer_id = (*name.split(":"), "", "")[:3]
        now = time.monotonic()
        lively = live.played is not None or live.tried_scene(scene_id, now) is not None
        every_s = LIVELY_EVERY_S if lively and size == "scene" else every_s
        if now - self._sent.get(topic, (0.0, 0))[0] >= every_s:
            self._send_scene(live, topic, scene_id, layer_id, width, quality)
            self._do_due()

    def _tell_wanted(self, live: Live, topics: list[bytes]) -> None:
        names: set[str] = set()
        for topic in topics:
            size, _, name = topic.decode()[len(PICTURE) :].partition("/")
            if size == "whole":
                names.add(WHOLE + name)
            elif size in SIZES and size != "rest":
                names.add(name)
            elif size in ("scene", "matte"):
                names |= self._scenes.inputs_of(live, (*name.split(":"), "")[1])
        if self._watched.get(PROGRAM):
            names |= self._scenes.inputs_of(live, live.rig.default_scene.id)
        wanted = frozenset(names)
        if wanted != self._wanted:
            self._wanted = wanted
            self._shows.tell_wanted(wanted)
