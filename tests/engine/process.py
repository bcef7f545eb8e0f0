"""A real engine process for tests, on a data folder of its own."""

import os
import shutil
import signal
import subprocess
import sys
import time
from contextlib import suppress

from kettle_core.errors import EngineError
from kettle_engine.addresses import socket_folder
from kettle_engine.client import EngineClient
from kettle_engine.rings.places import RingPlaces
from tests.fixtures import ROOT

STUDIO_KEPT = ROOT / "studio"


class EngineProcess:
    """Starts, answers, ends; `start` again after a kill."""

    def __init__(self, case, data, environment=None):
        self.case, self.data, self.client = case, data, EngineClient(data)
        # What the studio draws is drawn once for all tests; a few pictures a second show the same.
        usual = {"KETTLE_STUDIO_KEEP": str(STUDIO_KEPT), "KETTLE_REFRESH": "10"}
        self.environment = {**usual, **os.environ, **(environment or {})}
        self.process = None
        (case.addClassCleanup if isinstance(case, type) else case.addCleanup)(self.end)
        self.start()

    def start(self):
        """Start it and wait until it answers."""
        self.process = subprocess.Popen(
            [sys.executable, "-m", "kettle_engine.server", str(self.data)],
            stdout=subprocess.DEVNULL,
            env=self.environment,
        )
        self.until(self.answers, 90)

    def kill_all(self):
        """Kill the engine and all its processes as one, the recorder first.

        The engine stands still meanwhile: it would begin a recorder that died again, and that
        one would live on and end the take.
        """
        pids = self.client.ask("hello")["pids"]
        self.process.send_signal(signal.SIGSTOP)
        for name in sorted(pids, key=lambda name: name != "recorder"):
            with suppress(ProcessLookupError):
                os.kill(pids[name], signal.SIGKILL)
        self.process.kill()
        self.process.wait()

    def end(self):
        """End it and take its sockets away, and the rings that a killed one leaves in memory."""
        self.process.terminate()
        self.process.wait(60)
        shutil.rmtree(socket_folder(self.data), ignore_errors=True)
        RingPlaces(self.data).clear()

    def answers(self):
        """What it says of itself, or None."""
        try:
            return self.client.ask("hello")
        except EngineError:
            return None

    def until(self, holds, seconds=60):
        """Wait for something to hold and give it."""
        deadline = time.monotonic() + seconds
        while not (found := holds()):
            if time.monotonic() > deadline:
                raise AssertionError(f"It did not happen in {seconds} s; {self.state()}")
            time.sleep(0.05)
        return found

    def state(self):
        """What the engine says of itself, for who waited in vain."""
        try:
            return self.client.ask("status")
        except EngineError as error:
            return str(error)

    def has_recorded(self, seconds):
        """Wait until a take is that long; gives its elapsed seconds."""

        def elapsed_s():
            return self.client.ask("status").get("take", {}).get("elapsed_s", 0)

        self.until(lambda: elapsed_s() > seconds)
        return elapsed_s()


def but_drops(notes):
    """What a take notes, but for frames: a machine that stands still drops some, never sound."""
    return [note for note in notes if " frames were dropped" not in note]
