import contextlib
import os
import re
import signal
import socket
import subprocess
import sys
import unittest
import urllib.request

from django.test import tag

from kettle_cli.run_commands import FIRST_PORT
from kettle_web.frame.static_files import MADE_OF
from tests.cli.test_commands import TOP
from tests.fixtures import ROOT
from tests.small_disk import small_disk


@tag("realtime")
class Demo(unittest.TestCase):
    def setUp(self):
        self.data = ROOT / "demo-data"

    def words(self, *more):
        return [sys.executable, "-m", "kettle_cli", *more]

    def environment(self):
        settings = {"DJANGO_SETTINGS_MODULE": "kettle_web.settings"}
        return {**os.environ, **settings, "KETTLE_DATA": str(self.data),
                "KETTLE_DEMO_TAKES": "0"}  # fmt: skip

    def start(self):
        process = subprocess.Popen(
            self.words("demo"),
            cwd=TOP,
            env=self.environment(),
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
        )
        self.addCleanup(process.stdout.close)
        told = ""
        while "http://" not in told:
            line = process.stdout.readline()
            self.assertTrue(line, told)
            told += line
        return process, re.search(r"http://127\.0\.0\.1:(\d+)/", told)

    def refusal(self, *more):
        """What a demo says that does not begin."""
        said = subprocess.run(
            self.words("demo", *more),
            cwd=TOP,
            env=self.environment(),
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(said.returncode, 2)
        self.assertNotIn("Traceback", said.stderr)
        return said.stderr

    def test_it_takes_the_next_free_port_refuses_fresh_while_running_and_starts_again(self):
        with contextlib.suppress(OSError):  # somebody else may have it, which is as good
            self.addCleanup(socket.create_server(("127.0.0.1", FIRST_PORT)).close)
        process, address = self.start()
        self.assertGreater(int(address[1]), FIRST_PORT)
        with urllib.request.urlopen(address[0]) as page:
            self.assertIn(b"Bench rig", page.read())
        self.assertIn("was not deleted. End it first", self.refusal("--fresh"))
        process.send_signal(signal.SIGTERM)
        self.assertEqual(process.wait(60), 0)
        left = subprocess.run(
            ["pgrep", "-f", str(ROOT / "demo-data")], capture_output=True, text=True, check=False
        )
        self.assertEqual(left.stdout, "")
        process, address = self.start()
        process.send_signal(signal.SIGINT)
        self.assertEqual(process.wait(60), 0)

    def test_a_full_disk_is_told_in_words_and_it_begins_once_there_is_room(self):
        with small_disk(ROOT / "small", 3) as folder:
            self.data = folder / "data"
            self.assertIn("can't begin with the data in", self.refusal())
            self.assertFalse((self.data / "static" / MADE_OF).exists())
            subprocess.run(["mount", "-o", "remount,size=100m", str(folder)], check=True)
            process, address = self.start()
            with urllib.request.urlopen(address[0]) as page:
                self.assertIn(b"Bench rig", page.read())
            process.send_signal(signal.SIGTERM)
            self.assertEqual(process.wait(60), 0)
