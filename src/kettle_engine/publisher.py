"""Publishes what pages show, and only what somebody has subscribed to."""

import json
import os
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import zmq

from kettle_core.compose import compose_frame, plan_scene
from kettle_core.errors import KettleError
from kettle_core.layout import Box, even
from kettle_core.picture import picture_from_i420, picture_to_jpeg, scale_picture
from kettle_engine.engine import Engine, Live
from kettle_engine.priority import lower_priority
from kettle_engine.protocol import LEVELS, PICTURE, PROGRAM, STATUS

LEVELS_EVERY_S, PROGRAM_EVERY_S, PICTURES_EVERY_S, STATUS_EVERY_S = 0.05, 1 / 15, 0.1, 0.25
PROGRAM_WIDTH, PICTURE_WIDTH = 960, 192
CLOSE_AFTER_S = 20.0


@dataclass
class Job:
    """Something that is published every so often while its topic is watched."""

    every_s: float
    topic: bytes
    work: Callable[[Live], None]
    due_s: float = 0.0


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
        self._sent: dict[str, int] = {}
        self._quit = threading.Event()
        self._thread = threading.Thread(target=self._run, name="publish", daemon=True)
        self._thread.start()

    def close(self) -> None:
        """End the thread."""
        self._quit.set()
        self._thread.join()

    def _run(self) -> None:
        lower_priority(10)
        jobs = [
            Job(LEVELS_EVERY_S, LEVELS, self._levels),
            Job(PROGRAM_EVERY_S, PROGRAM, self._program),
            Job(PICTURES_EVERY_S, PICTURE, self._pictures),
            Job(STATUS_EVERY_S, STATUS, lambda _: None),
        ]
        watched_at = time.monotonic()
        while not self._quit.is_set():
            self._read_subscriptions()
            now = time.monotonic()
            if any(self._watched.values()):
                watched_at = now
            elif now - watched_at > CLOSE_AFTER_S and self._engine.live:
                self._engine.call(self._engine.close_rig)
            for job in jobs:
                if now >= job.due_s:
                    job.due_s = max(job.due_s + job.every_s, now)
                    if self._watched.get(job.topic):
                        self._do(job)
            time.sleep(max(0.002, min(job.due_s for job in jobs) - time.monotonic()))
        self._socket.close(linger=0)

    def _read_subscriptions(self) -> None:
        while self._socket.poll(0):
            message = self._socket.recv()
            topic, change = message[1:], 1 if message[0] else -1
            self._watched[topic] = max(0, self._watched.get(topic, 0) + change)
            if message[0]:
                self._sent.clear()

    def _do(self, job: Job) -> None:
        try:
            if job.topic == STATUS:
                self._send(STATUS, {**self._engine.status(), **self._more_status()})
            elif self._engine.live:
                job.work(self._engine.live)
        except KettleError as error:
            self._send(STATUS, {"state": "failed", "message": str(error)})

    def _send(self, topic: bytes, header: dict[str, Any], body: bytes = b"") -> None:
        self._socket.send_multipart([topic, json.dumps(header).encode(), body])

    def _levels(self, live: Live) -> None:
        self._send(LEVELS, {name: meter.read() for name, meter in live.meters.items()})

    def _program(self, live: Live) -> None:
        numbers = dict(live.numbers)
        stamp = hash(tuple(sorted(numbers.items())))
        if not numbers or self._sent.get("program") == stamp:
            return
        self._sent["program"] = stamp
        plan = plan_scene(live.rig.scenes[0], live.rig.format, PROGRAM_WIDTH)
        frame = compose_frame(plan, dict(live.pictures))
        self._send(PROGRAM, {}, picture_to_jpeg(picture_from_i420(frame), 82))

    def _pictures(self, live: Live) -> None:
        for name, picture in list(live.pictures.items()):
            if self._sent.get(name) == live.numbers[name]:
                continue
            self._sent[name] = live.numbers[name]
            height = even(PICTURE_WIDTH * picture.height / picture.width)
            whole = Box(0, 0, picture.width, picture.height)
            small = scale_picture(picture, whole, PICTURE_WIDTH, height)
            self._send(PICTURE + name.encode(), {"input": name}, picture_to_jpeg(small, 80))


def machine_status(disk_free_bytes: int) -> dict[str, Any]:
    """Room left and load of this machine."""
    return {
        "disk_free_bytes": disk_free_bytes,
        "load": round(os.getloadavg()[0], 1),
        "cores": os.cpu_count() or 1,
    }
