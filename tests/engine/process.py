"""A real engine process for tests, on a data folder of its own."""

import shutil
import subprocess
import sys
import time

from kettle_core.errors import EngineError
from kettle_engine.client import EngineClient
from kettle_engine.protocol import socket_folder


class EngineProcess:
    """Starts, answers, ends; `start` again after a kill."""

    def __init__(self, case, data):
        self.case, self.data, self.client = case, data, EngineClient(data)
        self.process = None
        case.addCleanup(self.end)
        self.start()

    def start(self):
        """Start it and wait until it answers."""
        self.process = subprocess.Popen(
            [sys.executable, "-m", "kettle_engine.server", str(self.data)],
            stdout=subprocess.DEVNULL,
        )
        self.until(self.answers, 90)

    def end(self):
        """End it and take its sockets away."""
        self.process.terminate()
        self.process.wait(60)
        shutil.rmtree(socket_folder(self.data), ignore_errors=True)

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
            self.case.assertLess(time.monotonic(), deadline, "It did not happen in time.")
            time.sleep(0.05)
        return found

    def has_recorded(self, seconds):
        """Wait until a take is that long; gives its elapsed seconds."""

        def elapsed_s():
            return self.client.ask("status").get("take", {}).get("elapsed_s", 0)

        self.until(lambda: elapsed_s() > seconds)
        return elapsed_s()
