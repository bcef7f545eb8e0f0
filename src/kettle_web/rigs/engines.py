"""Who shows a rig: the engine, or for the rig of a take a viewer of that take."""

import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any, ClassVar

from django.conf import settings

from kettle_core.errors import EngineError
from kettle_engine.addresses import live_address
from kettle_engine.client import EngineClient
from kettle_web.frame.engine import engine, status_or_message
from kettle_web.models import Rig, Take

BEGINS_S, LOOK_EVERY_S = 20.0, 0.05
FAILED = "This take can't be shown: its tracks are damaged or gone. Its page says which."


class TakeViewers:
    """Viewers of takes, begun when they are asked for; they end by themselves."""

    _lock: ClassVar[threading.Lock] = threading.Lock()
    _running: ClassVar[dict[int, subprocess.Popen[bytes]]] = {}
    # Those that have answered once, which are asked without further ado.
    _answering: ClassVar[set[subprocess.Popen[bytes]]] = set()

    @classmethod
    def client(cls, take: Take) -> EngineClient:
        """The viewer of a take. Raises EngineError if it can't be shown."""
        client = EngineClient(door_of(take.pk))
        if not cls.is_answering(take):
            process = cls._begun(take)
            _wait(client, process)
            cls._answering.add(process)
        return client

    @classmethod
    def is_answering(cls, take: Take) -> bool:
        """Whether there is a viewer of a take that can be asked at once."""
        process = cls._running.get(take.pk)
        return process in cls._answering and process.poll() is None

    @classmethod
    def end(cls) -> None:
        """End all of them."""
        with cls._lock:
            for process in cls._running.values():
                process.terminate()
                process.wait()
            cls._running.clear()
            cls._answering.clear()

    @classmethod
    def _begun(cls, take: Take) -> "subprocess.Popen[bytes]":
        with cls._lock:
            process = cls._running.get(take.pk)
            if process is None or process.poll() is not None:
                cls._answering = {p for p in cls._answering if p.poll() is None}
                words = [str(take.path), str(door_of(take.pk)), str(settings.DATA)]
                program = [sys.executable, "-m", "kettle_engine.viewing.take_viewer"]
                process = subprocess.Popen([*program, *words], start_new_session=True)
                cls._running[take.pk] = process
            return process


def _wait(client: EngineClient, process: "subprocess.Popen[bytes]") -> None:
    until_s = time.monotonic() + BEGINS_S
    while process.poll() is None and time.monotonic() < until_s:
        try:
            client.ask("status")
        except EngineError:
            time.sleep(LOOK_EVERY_S)
        else:
            return
    raise EngineError(FAILED)


def door_of(take_pk: int) -> Path:
    """The folder that names the addresses of a take's viewer; it need not be there."""
    return Path(settings.DATA) / "viewers" / f"take-{take_pk}"


def engine_of(rig: Rig) -> EngineClient:
    """Who shows a rig and is asked about it. Raises EngineError where a take can't be shown."""
    return TakeViewers.client(rig.of_take) if rig.of_take else engine()


def shown_now(rig: Rig) -> EngineClient:
    """Who shows a rig, if that can be asked at once. Raises EngineError."""
    if rig.of_take and not TakeViewers.is_answering(rig.of_take):
        raise EngineError("The take is being opened.")
    return engine_of(rig)


def state_of(rig: Rig) -> dict[str, Any]:
    """What the engine says of itself, or why it says nothing; of takes their viewers tell."""
    return {} if rig.of_take else status_or_message()


def live_of(take_pk: int | None) -> str:
    """Where the viewer of a take publishes what is seen and heard, or the engine."""
    return live_address(Path(settings.DATA) if take_pk is None else door_of(take_pk))
