import os
import shutil
import signal
import subprocess
import sys
import time
import unittest
from pathlib import Path

from django.test import tag

from kettle_core.errors import EngineError, RigError
from kettle_core.rig import rig_to_dict
from kettle_engine.client import EngineClient
from kettle_engine.protocol import socket_folder
from kettle_media.inspect import inspect_take
from kettle_media.take_folder import TakeFolder
from kettle_studio.driver import demo_rig
from tests.fixtures import ROOT


@tag("realtime")
class EngineProcess(unittest.TestCase):
    def setUp(self):
        self.data = ROOT / f"data-{self._testMethodName}"
        self.client = EngineClient(self.data)
        self.rig = rig_to_dict(demo_rig())
        self.process = self.start()
        self.addCleanup(shutil.rmtree, socket_folder(self.data), ignore_errors=True)
        self.addCleanup(lambda: self.process.wait(10))
        self.addCleanup(lambda: self.process.terminate())  # noqa: PLW0108  a later one

    def start(self):
        process = subprocess.Popen(
            [sys.executable, "-m", "kettle_engine.server", str(self.data)],
            stdout=subprocess.PIPE,
            text=True,
        )
        self.addCleanup(process.stdout.close)
        self.until(self.answers, 90)
        return process

    def answers(self):
        try:
            return self.client.ask("hello")
        except EngineError:
            return None

    def until(self, holds, seconds):
        deadline = time.monotonic() + seconds
        while not (found := holds()):
            self.assertLess(time.monotonic(), deadline, "It did not happen in time.")
            time.sleep(0.05)
        return found

    def record_for(self, seconds, folder="t1", **more):
        self.client.ask("record", rig=self.rig, folder=folder, **more)
        self.until(
            lambda: self.client.ask("status").get("take", {}).get("elapsed_s", 0) > seconds, 60
        )

    def lost_by_kill_s(self, name):
        """Record, kill, start again; the seconds that are missing of the worst track."""
        self.record_for(3, folder=name)
        elapsed_s = self.client.ask("status")["take"]["elapsed_s"]
        os.kill(self.process.pid, signal.SIGKILL)
        self.process.wait()
        folder = TakeFolder(self.data / "takes" / name)
        self.assertEqual(folder.read_info().state, "recording")
        self.process = self.start()
        repaired = self.answers()["repaired"]
        self.assertEqual([Path(r["folder"]).name for r in repaired], [name])
        self.assertIn("was cut off and has been repaired", repaired[0]["notes"][0])
        found = inspect_take(folder)
        self.assertEqual(found["state"], "repaired")
        return elapsed_s - min(row["duration_s"] for row in found["tracks"])

    def test_kill_9_costs_half_a_second_and_the_next_start_repairs(self):
        # A shared machine may itself stand still for seconds: one of five has to be ours alone.
        lost_s = []
        while len(lost_s) < 5 and min(lost_s, default=9) >= 0.5:
            lost_s.append(self.lost_by_kill_s(f"t{len(lost_s)}"))
        self.assertLess(min(lost_s), 0.5, lost_s)

    def test_record_stop_and_refusals(self):
        for command, sentence in (
            ({"do": "stop"}, "nothing to stop"),
            ({"do": "dance"}, "does not know"),
            ({"do": "record", "rig": self.rig, "folder": "../../etc"}, "does not"),
            ({"do": "record", "rig": self.rig, "folder": "t", "countdown_s": 99}, "0 to 10 s"),
        ):
            with self.assertRaisesRegex(EngineError, sentence):
                self.client.ask(**command)
        with self.assertRaises(RigError):
            self.client.ask("open_rig", rig={**self.rig, "version": 2})
        self.record_for(1, countdown_s=1)
        with self.assertRaisesRegex(EngineError, "being recorded already"):
            self.client.ask("record", rig=self.rig, folder="t2")
        self.assertEqual(self.client.ask("stop"), "recording")
        last = self.until(lambda: self.client.ask("status")["last_take"], 20)
        self.assertEqual((last["state"], last["notes"]), ("complete", []))
        with self.assertRaisesRegex(EngineError, "not empty"):
            self.client.ask("record", rig=self.rig, folder="t1")

    def test_a_stop_in_the_countdown_leaves_nothing(self):
        self.client.ask("record", rig=self.rig, folder="t3", countdown_s=10)
        self.assertEqual(self.client.ask("stop"), "countdown")
        self.assertEqual(list((self.data / "takes").iterdir()), [])

    def test_being_ended_finishes_the_take(self):
        self.record_for(1)
        self.process.terminate()
        self.process.wait(20)
        info = TakeFolder(self.data / "takes" / "t1").read_info()
        self.assertEqual((info.state, info.ended_because), ("complete", "the engine was ended"))
        self.process = self.start()

    def test_a_second_engine_for_the_same_data_is_refused(self):
        done = subprocess.run(
            [sys.executable, "-m", "kettle_engine.server", str(self.data)],
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, 2)
        self.assertIn("runs for", done.stderr)
