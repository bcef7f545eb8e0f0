"""Running it: logs, health, output nobody reads to its end, files that are the user's alone."""

import io
import json
import os
import signal
import stat
import subprocess
import sys
import tempfile
import time
import unittest
import urllib.request
from contextlib import redirect_stdout
from pathlib import Path
from types import SimpleNamespace
from unittest import mock
from urllib.error import HTTPError

from kettle_cli import run_commands
from kettle_cli.run_commands import MARK, delete_data
from kettle_core.errors import KettleError
from kettle_engine.client import EngineClient
from tests.browser.case import TOP


class Fresh(unittest.TestCase):
    def setUp(self):
        self.data = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def test_a_folder_that_is_not_ours_is_left_alone_and_of_ours_only_what_is_ours_goes(self):
        (self.data / "letters.txt").write_text("mine")
        with self.assertRaisesRegex(KettleError, "was not made by Vast Kettle"):
            delete_data(self.data, is_sure=True)
        (self.data / MARK).touch()
        (self.data / "takes" / "t1").mkdir(parents=True)
        (self.data / "takes" / "t1" / "take.json").touch()
        with self.assertRaisesRegex(KettleError, "1 takes lie in .* Add --yes"):
            delete_data(self.data, is_sure=False)
        delete_data(self.data, is_sure=True)
        self.assertEqual([path.name for path in self.data.iterdir()], ["letters.txt"])


class Closed(unittest.TestCase):
    def test_a_terminal_that_is_closed_ends_all_of_it(self):
        with tempfile.TemporaryDirectory() as folder:
            data = {"KETTLE_DATA": folder, "DJANGO_SETTINGS_MODULE": "kettle_web.settings"}
            command = [sys.executable, "-m", "kettle_cli", "serve"]
            with subprocess.Popen(
                command, cwd=TOP, env=os.environ | data, stdout=subprocess.PIPE, text=True
            ) as serve:
                next(x for x in serve.stdout if "is ready" in x)
                engine = EngineClient(Path(folder)).ask("hello")["pid"]
                serve.send_signal(signal.SIGHUP)
                self.assertEqual(serve.wait(60), 0)
                self.assertFalse(Path(f"/proc/{engine}").exists())


class OlderCode(unittest.TestCase):
    """An engine that goes on after its starter, as it says of itself."""

    def is_used(self, code, state):
        """Whether one is used; and whether it was ended."""
        with subprocess.Popen(["sleep", "60"]) as engine:
            self.addCleanup(engine.kill)
            said = {"hello": {"code": code, "pid": engine.pid}, "status": {"state": state}}
            client = SimpleNamespace(ask=said.get, is_listening=lambda: engine.poll() is None)
            with mock.patch.object(run_commands, "EngineClient", lambda *_, **__: client):
                used = run_commands._uses_running_engine()
            ended = engine.poll() is not None
            engine.kill()
        return used, ended

    def test_it_is_started_again_unless_it_records(self):
        ours = run_commands.code_digest()
        for code, state, expected in (
            (ours, "idle", (True, False)),
            ("older", "watching", (False, True)),
            ("older", "recording", (True, False)),
            ("older", "countdown", (True, False)),
        ):
            with self.subTest(code=code, state=state), redirect_stdout(io.StringIO()):
                self.assertEqual(self.is_used(code, state), expected)


class Running(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.data = Path(folder.name) / "data"
        cls.environment = {**os.environ, "KETTLE_DATA": str(cls.data)}
        cls.environment["DJANGO_SETTINGS_MODULE"] = "kettle_web.settings"
        cls.serve = subprocess.Popen(
            [sys.executable, "-m", "kettle_cli", "serve"],
            cwd=TOP,
            env=cls.environment,
            stdout=subprocess.PIPE,
            text=True,
        )
        cls.addClassCleanup(cls.end)
        line = next(x for x in cls.serve.stdout if "is ready" in x)
        cls.address = line.split()[-1]

    @classmethod
    def end(cls):
        cls.serve.send_signal(signal.SIGTERM)
        cls.serve.wait(60)
        cls.serve.stdout.close()

    def kettle(self, *words):
        command = [sys.executable, "-m", "kettle_cli", *words]
        return subprocess.run(
            command, cwd=TOP, env=self.environment, capture_output=True, text=True, check=False
        )

    def health(self):
        try:
            with urllib.request.urlopen(f"{self.address}health/", timeout=20) as answer:
                return answer.status, json.load(answer)
        except HTTPError as error:
            with error:
                return error.code, json.load(error)

    def until_well(self):
        deadline = time.monotonic() + 60
        while (found := self.health())[0] != 200:
            self.assertLess(time.monotonic(), deadline, found)
            time.sleep(0.2)
        return found[1]

    def test_1_everything_answers_and_says_so(self):
        told = self.until_well()
        self.assertEqual((told["web"], told["database"]), ("answers", "answers"))
        self.assertEqual((told["worker soon"], told["worker long"]), ("works", "works"))

    def test_2_log_lines_have_time_level_and_process_in_order(self):
        with self.assertRaises(HTTPError) as refused:
            urllib.request.urlopen(f"{self.address}takes/99/", timeout=20)
        refused.exception.close()
        lines = self.kettle("logs").stdout.splitlines()
        ours = [x for x in lines if "Not Found: /takes/99/" in x]
        self.assertRegex(ours[0], r"^web +20\d\d-\d\d-\d\dT[\d:.]+Z WARNING +django\.request: ")
        times = [x.split()[1] for x in lines if x.split()[1:2] and x.split()[1].startswith("20")]
        self.assertEqual(times, sorted(times))
        self.assertIn("Processes with one:", self.kettle("logs", "kazoo").stderr)

    def test_3_output_that_is_not_read_to_its_end_is_no_fault(self):
        words = f"{sys.executable} -m kettle_cli inputs | head -1; echo ${{PIPESTATUS[0]}}"
        done = subprocess.run(
            ["bash", "-c", words], cwd=TOP, env=self.environment, capture_output=True, text=True,
            check=False,
        )  # fmt: skip
        self.assertEqual((done.stderr, done.stdout.splitlines()[-1]), ("", "0"))

    def test_4_the_demo_rig_is_known_before_the_demo_was_started(self):
        target = self.data / "demo.rig.json"
        done = self.kettle("rig", "export", "demo", str(target))
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertIn("Bench rig", target.read_text())

    def test_5_what_lies_below_the_data_folder_is_the_users_alone(self):
        odd = [
            str(path)
            for path in [self.data, *self.data.rglob("*")]
            if not path.is_symlink() and stat.S_IMODE(path.stat().st_mode) & 0o077
        ]
        self.assertEqual(odd, [])
