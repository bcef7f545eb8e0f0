"""Publishes what pages show, and only what somebody has subscribed to."""

import json
import os
import threading
import time
from collections.abc import Callable
from typing import Any

import zmq

from kettle_core.compose import compose_frame, plan_scene
from kettle_core.errors import KettleError
from kettle_core.layout import Box, even
from kettle_core.picture import Picture, picture_from_i420, picture_to_jpeg, scale_picture
from kettle_engine.engine import Engine, Live
from kettle_engine.protocol import LEVELS, PICTURE, PROGRAM, STATUS

LEVELS_EVERY_S, PROGRAM_EVERY_S, PICTURES_EVERY_S, STATUS_EVERY_S = 0.05, 1 / 15, 0.1, 0.25
PROGRAM_WIDTH, PICTURE_WIDTH = 960, 192
CLOSE_AFTER_S = 20.0


class Publisher:
    """One thread with the PUB socket; knows from it which topics are watched."""

    def __init__(self, engine: Engine, address: str, more_status: Callable[[], dict[str, Any]]) -> None:
        self._engine = engine
        self._more_status = more_status
        self._socket = zmq.Context.instance().socket(zmq.XPUB)
        self._socket.setsockopt(zmq.XPUB_VERBOSER, 1)
        self._socket.sndhwm = 60
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
        jobs = [
            [0.0, LEVELS_EVERY_S, LEVELS, self._levels],
            [0.0, PROGRAM_EVERY_S, PROGRAM, self._program],
            [0.0, PICTURES_EVERY_S, PICTURE, self._pictures],
            [0.0, STATUS_EVERY_S, STATUS, self._status],
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
                due, every, topic, work = job
                if now >= due:
                    job[0] = max(due + every, now)  # type: ignore[operator]
                    if self._watched.get(topic):  # type: ignore[call-overload]
                        self._do(work)  # type: ignore[arg-type]
            time.sleep(max(0.002, min(float(j[0]) for j in jobs) - time.monotonic()))  # type: ignore[arg-type]
        self._socket.close(linger=0)

    def _read_subscriptions(self) -> None:
        while self._socket.poll(0):
            message = self._socket.recv()
            topic, change = message[1:], 1 if message[0] else -1
            self._watched[topic] = max(0, self._watched.get(topic, 0) + change)
            if message[0]:
                self._sent.clear()

    def _do(self, work: Callable[[Live], None]) -> None:
        live = self._engine.live
        if live is None and work != self._status:
            return
        try:
            work(live)  # type: ignore[arg-type]
        except KettleError as error:
            self._send(STATUS, {"state": "failed", "message": str(error)})

    def _send(self, topic: bytes, header: dict[str, Any], body: bytes = b"") -> None:
        self._socket.send_multipart([topic, json.dumps(header).encode(), body])

    def _status(self, _: Live | None) -> None:
        self._send(STATUS, {**self._engine.status(), **self._more_status()})

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
