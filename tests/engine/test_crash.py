import os
import signal
import subprocess
import sys
import threading
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from django.test import tag

from kettle_bench.heartbeat import heartbeat
from kettle_core.errors import EngineError, RigError
from kettle_engine.client import EngineClient
from kettle_media.rig_document import rig_to_dict
from kettle_media.take.folder import TakeFolder
from kettle_media.take.inspect import inspect_take
from tests.engine.process import EngineProcess, but_drops
from tests.fixtures import ROOT, face_rig


@tag("realtime")
class Crashing(unittest.TestCase):
    def setUp(self):
        self.engine = EngineProcess(self, ROOT / f"data-{self._testMethodName}")
        self.takes = self.engine.data / "takes"
        self.rig = rig_to_dict(face_rig())

    def ask(self, do, **values):
        return self.engine.client.ask(do, **values)

    def record_for(self, seconds, folder="t1", **more):
        self.ask("record", rig=self.rig, folder=folder, **more)
        return self.engine.has_recorded(seconds)

    def test_the_next_start_repairs_what_kill_9_left(self):
        # How much a kill costs at most is told by the files: tests/media/take/test_tracks.py.
        self.record_for(3, folder="t1")
        self.engine.kill_all()
        folder = TakeFolder(self.takes / "t1")
        self.assertEqual(folder.read_info().state, "recording")
        self.engine.start()
        repaired = self.engine.until(lambda: self.engine.answers()["repaired"])
        self.assertEqual([Path(r["folder"]).name for r in repaired], ["t1"])
        self.assertIn("was cut off and has been repaired", repaired[0]["notes"][0])
        found = inspect_take(folder)
        self.assertEqual(found["state"], "repaired")
        for row in found["tracks"]:
            self.assertGreater(row.get("duration_s", 0), 0, row)

    def test_a_killed_engine_leaves_a_take_that_its_recorder_has_ended(self):
        stall_since = self.enterContext(heartbeat(ROOT / "heartbeat"))
        began_s = time.monotonic()
        elapsed_s = self.record_for(2, folder="t1")
        os.kill(self.engine.process.pid, signal.SIGKILL)
        self.engine.process.wait()
        stall_s = stall_since(began_s)
        folder = TakeFolder(self.takes / "t1")
        # Its devices are gone with it, so that nothing more is waited for.
        self.engine.until(lambda: folder.read_info().state != "recording", 8)
        self.assertEqual(folder.read_info().ended_because, "the engine ended")
        rows = inspect_take(folder)["tracks"]
        shortest_s = min(row["duration_s"] for row in rows)
        self.assertGreater(shortest_s, elapsed_s - 0.5 - stall_s)
        self.engine.start()
        self.record_for(1, folder="t2")
        self.assertEqual(self.engine.answers()["repaired"], [])

    def test_record_stop_and_refusals(self):
        for command, sentence in (
            ({"do": "stop"}, "nothing to stop"),
            ({"do": "dance"}, "does not know"),
            ({"do": "record", "rig": self.rig, "folder": "../../etc"}, "does not"),
            ({"do": "record", "rig": self.rig, "folder": "t", "countdown_s": 99}, "0 to 10 s"),
        ):
            with self.assertRaisesRegex(EngineError, sentence):
                self.ask(**command)
        with self.assertRaises(RigError):
            self.ask("open_rig", rig={**self.rig, "version": 99})
        self.record_for(1, countdown_s=1)
        with self.assertRaisesRegex(EngineError, "being recorded already"):
            self.ask("record", rig=self.rig, folder="t2")
        self.assertEqual(self.ask("stop"), "recording")
        states = set()

        def ended():
            status = self.ask("status")
            states.add(status["state"])
            return status["last_take"]

        last = self.engine.until(ended)
        self.assertLessEqual(states, {"recording", "finishing", "watching"})
        self.assertEqual((last["state"], but_drops(last["notes"])), ("complete", []))
        with self.assertRaisesRegex(EngineError, "not empty"):
            self.ask("record", rig=self.rig, folder="t1")

    def test_of_orders_at_the_same_moment_one_is_recorded_and_the_others_are_told(self):
        at_once = threading.Barrier(4)

        def order(number):
            client = EngineClient(self.engine.data)
            at_once.wait(60)
            try:
                client.ask("record", rig=self.rig, folder=f"t{number}", countdown_s=1)
            except EngineError as error:
                return str(error)
            return ""

        with ThreadPoolExecutor(4) as pool:
            answers = list(pool.map(order, range(4)))
        self.assertEqual(answers.count(""), 1)
        self.assertEqual(sum("being recorded already" in a for a in answers), 3)
        self.engine.has_recorded(0.5)
        self.assertEqual([p.name for p in self.takes.iterdir()], [f"t{answers.index('')}"])
        with ThreadPoolExecutor(2) as pool:
            stops = [pool.submit(EngineClient(self.engine.data).ask, "stop") for _ in range(2)]
        self.assertIn("recording", [s.result() for s in stops if not s.exception()])

    def test_a_stop_in_the_countdown_leaves_nothing(self):
        self.ask("record", rig=self.rig, folder="t3", countdown_s=10)
        self.assertEqual(self.ask("stop"), "countdown")
        self.assertFalse((self.takes / "t3").exists())
        self.engine.until(lambda: not list(self.takes.iterdir()))

    def test_being_ended_finishes_the_take(self):
        self.record_for(1)
        self.engine.process.terminate()
        self.engine.process.wait(60)
        info = TakeFolder(self.takes / "t1").read_info()
        self.assertEqual((info.state, info.ended_because), ("complete", "the engine was ended"))

    def test_a_second_engine_for_the_same_data_is_refused(self):
        # Also by one that stands still: it is not asked.
        self.engine.process.send_signal(signal.SIGSTOP)
        self.addCleanup(self.engine.process.send_signal, signal.SIGCONT)
        done = subprocess.run(
            [sys.executable, "-m", "kettle_engine.server", str(self.engine.data)],
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, 2)
        self.assertIn(f"already (process {self.engine.process.pid})", done.stderr)
