"""Publishes what pages show, and only what somebody has subscribed to."""

import json
import os
import threading
import time
import traceback
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import zmq

from kettle_core.errors import KettleError
from kettle_core.layout import Box, fit_inside
from kettle_core.picture import (
    Picture,
    blank_i420,
    crop_picture,
    paste,
    picture_from_i420,
    picture_to_i420,
    picture_to_jpeg,
    scale_picture,
    turn_picture,
)
from kettle_core.rig import Input, Looks
from kettle_engine.after_meter import AfterMeter
from kettle_engine.engine import RECORDING, Engine, Live
from kettle_engine.priority import lower_priority
from kettle_engine.protocol import AFTER, HEAR, LEVELS, PICTURE, PROGRAM, STATUS
from kettle_engine.scene_pictures import (
    SHOWN_WIDTH,
    THUMB_WIDTH,
    ScenePictures,
    shrunk_for_page,
)
from kettle_media.stills import draw_label

LEVELS_EVERY_S, STATUS_EVERY_S = 0.05, 0.25
PROGRAM_EVERY_S = 1 / 15
# Size of a live picture's box in px, least time between two of them, JPEG quality.
SIZES = {
    "small": ((240, 136), 1 / 15, 78),
    "rest": ((240, 136), 1.0, 78),
    "large": ((960, 600), 1 / 15, 84),
    # All of the device's picture, to draw a region on.
    "whole": ((960, 600), 1 / 15, 84),
}
TICK_S = 0.012
LIVELY_TICK_S = 0.003
# Of a scene on the drawing table, of one among the scenes, and of a layer's matte.
SCENE_SIZES = {
    "scene": (SHOWN_WIDTH, 1 / 20, 86),
    "thumb": (THUMB_WIDTH, 0.5, 80),
    "matte": (SHOWN_WIDTH, 1 / 8, 86),
}
# While a layer is dragged or a change-over is played.
LIVELY_EVERY_S = 1 / 40
# A picture this many times larger than shown is thinned out before it is scaled.
COARSE = 2
CLOSE_AFTER_S = 20.0
IDENTIFY_S = 4.0
GROUND_RGB = (231, 226, 214)


def after_topic(input_id: str) -> bytes:
    """The topic under which the level of a sound after its chain is published."""
    return AFTER + input_id.encode()


def hear_topic(input_id: str) -> bytes:
    """The topic under which a sound after its chain is published to be heard."""
    return HEAR + input_id.encode()


def picture_topic(size: str, input_id: str) -> bytes:
    """The topic under which an input's live picture of a size is published."""
    return PICTURE + f"{size}/{input_id}".encode()


class Publisher:
    """One thread with the PUB socket; knows from it which topics are watched."""

    def __init__(
        self, engine: Engine, address: str, more_status: Callable[[], dict[str, Any]]
    ) -> None:
        self._engine = engine
        self._more_status = more_status
        self._socket: zmq.Socket[bytes] = zmq.Context.instance().socket(zmq.XPUB)
        self._socket.setsockopt(zmq.XPUB_VERBOSER, 1)
        self._socket.set_hwm(60)
        self._socket.bind(address)
        self._watched: dict[bytes, int] = {}
        self._sent: dict[bytes, tuple[float, int]] = {}
        self._wanted: frozenset[str] | None = None
        self._scenes = ScenePictures(engine.library)
        self._afters: dict[str, AfterMeter] = {}
        self.identify_until_s = 0.0
        self._jobs = {
            LEVELS: (LEVELS_EVERY_S, self._levels),
            PROGRAM: (PROGRAM_EVERY_S, self._program),
            STATUS: (STATUS_EVERY_S, self._status),
            AFTER: (LEVELS_EVERY_S, self._after),
        }
        self._due_s = dict.fromkeys(self._jobs, 0.0)
        self._quit = threading.Event()
        self._thread = threading.Thread(target=self._run, name="publish", daemon=True)
        self._thread.start()

    def close(self) -> None:
        """End the thread."""
        self._quit.set()
        self._thread.join()

    def identify(self) -> None:
        """Lay a large label over every display's live picture for some seconds."""
        self.identify_until_s = time.monotonic() + IDENTIFY_S
        self._sent.clear()

    def _run(self) -> None:
        lower_priority(10)
        watched_at = time.monotonic()
        while not self._quit.is_set():
            self._read_subscriptions()
            now = time.monotonic()
            if any(self._watched.values()):
                watched_at = now
            elif now - watched_at > CLOSE_AFTER_S and self._engine.live:
                self._do(lambda _: self._engine.call(self._engine.close_rig))
            self._do_due()
            self._do(self._pictures)
            live = self._engine.live
            time.sleep(LIVELY_TICK_S if live and (live.tried or live.played) else TICK_S)
        self._socket.close(linger=0)

    def _do_due(self) -> None:
        """Levels, program and status at their times; also between two pictures."""
        now = time.monotonic()
        for topic, (every_s, work) in self._jobs.items():
            if now >= self._due_s[topic]:
                self._due_s[topic] = max(self._due_s[topic] + every_s, now)
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
        live = self._engine.live
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
        self._send(STATUS, {**self._engine.status(), **self._more_status()})

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
            if self._engine.state != RECORDING:
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
        if not live.numbers:
            return
        if layer_id:
            shown = self._scenes.matte(live, scene_id, layer_id)
        else:
            shown = self._scenes.shown(live, scene_id)
        if shown is None or self._sent.get(topic, (0.0, 0))[1] == shown.stamp:
            return
        self._sent[topic] = (time.monotonic(), shown.stamp)
        name = topic.decode().rpartition("/")[2]
        small = shrunk_for_page(shown.frame, width)
        self._send(topic, {"input": name}, picture_to_jpeg(small, quality))

    def _pictures(self, live: Live) -> None:
        now = time.monotonic()
        topics = [t for t in self._watched if t.startswith(PICTURE)]
        self._tell_wanted(live, topics)
        identifying = now < self.identify_until_s
        if live.played or live.tried:
            # What somebody drags or plays is waited for; the rest stands still meanwhile.
            topics = self._lively(live, topics)
        for topic in topics:
            size, _, name = topic.decode()[len(PICTURE) :].partition("/")
            if size in SCENE_SIZES:
                self._scene_picture(live, topic, size, name)
                continue
            picture, item = live.pictures.get(name), live.inputs.get(name)
            if size not in SIZES or picture is None or item is None:
                continue
            box, every_s, quality = SIZES[size]
            number = live.numbers.get(name, 0) * 2 + (identifying and item.kind == "display")
            number = hash((number, item.looks, id(live)))
            sent_s, sent_number = self._sent.get(topic, (0.0, -1))
            if number == sent_number or now - sent_s < every_s:
                continue
            self._sent[topic] = (now, number)
            looks = replace(item.looks, crop=None) if size == "whole" else item.looks
            small = small_picture(picture, looks, *box)
            if identifying and item.kind == "display":
                small = _labelled(small, item)
            header = {"input": name, "width": picture.width, "height": picture.height}
            self._send(topic, header, picture_to_jpeg(small, quality))
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
            if size in SIZES and size != "rest":
                names.add(name)
            elif size in ("scene", "matte"):
                names |= self._scenes.inputs_of(live, (*name.split(":"), "")[1])
        if self._watched.get(PROGRAM):
            names |= self._scenes.inputs_of(live, live.rig.default_scene.id)
        wanted = frozenset(names)
        if wanted != self._wanted:
            self._engine.call(lambda: self._engine.set_wanted(wanted))
            self._wanted = wanted


def small_picture(picture: Picture, looks: Looks, width: int, height: int) -> Picture:
    """An input's picture as it is used, fitted into a box; clear parts show the ground."""
    whole = Box(0, 0, picture.width, picture.height)
    crop = looks.crop if looks.crop and whole.holds(looks.crop) else whole
    across = looks.turn in (90, 270)
    room = Box(0, 0, height, width) if across else Box(0, 0, width, height)
    box = fit_inside(crop.width, crop.height, room)
    box = box if box.width < crop.width else Box(0, 0, crop.width, crop.height)
    coarse, crop = _coarser(picture, crop, crop.width // (COARSE * box.width))
    small = scale_picture(coarse, crop, box.width, box.height)
    if small.cover is not None:
        small = _on_ground(small)
    return turn_picture(small, looks.turn, looks.mirrored)


def _coarser(picture: Picture, crop: Box, step: int) -> tuple[Picture, Box]:
    """Every `step`th pixel, where there are far more than will be shown."""
    if step < 2:
        return picture, crop
    part = crop_picture(picture, crop)
    planes = (part.y, part.u, part.v)
    cover = None if part.cover is None else part.cover[::step, ::step]
    y, u, v = (p[::step, ::step] for p in planes)
    rows, columns = min(y.shape[0] // 2, u.shape[0]), min(y.shape[1] // 2, u.shape[1])
    small = Picture(
        y[: 2 * rows, : 2 * columns], u[:rows, :columns], v[:rows, :columns],
        None if cover is None else cover[: 2 * rows, : 2 * columns],
    )  # fmt: skip
    return small, Box(0, 0, 2 * columns, 2 * rows)


def _on_ground(picture: Picture) -> Picture:
    ground = picture_from_i420(blank_i420(picture.width, picture.height, GROUND_RGB))
    share = (picture.cover / 255.0) if picture.cover is not None else 1.0
    half = share[::2, ::2]  # type: ignore[index]
    planes = []
    for over, under, alpha in (
        (picture.y, ground.y, share),
        (picture.u, ground.u, half),
        (picture.v, ground.v, half),
    ):
        planes.append((over * alpha + under * (1 - alpha)).astype("uint8"))
    return Picture(*planes)


def _labelled(picture: Picture, item: Input) -> Picture:
    out = picture_from_i420(picture_to_i420(picture))
    width, height = out.width * 4 // 5 // 2 * 2, out.height // 2 // 2 * 2
    label = draw_label(item.name, width, height)
    paste(out, label, (out.width - width) // 4 * 2, (out.height - height) // 4 * 2)
    return out


def machine_status(disk_free_bytes: int) -> dict[str, Any]:
    """Room left and load of this machine."""
    return {
        "disk_free_bytes": disk_free_bytes,
        "load": round(os.getloadavg()[0], 1),
        "cores": os.cpu_count() or 1,
    }
