import json
import os
import socket
import subprocess
import sys
import unittest
from pathlib import Path

from tests.fixtures import ROOT, copied_take

TOP = Path(__file__).parents[2]


def kettle(*words):
    environment = {**os.environ, "KETTLE_DATA": str(ROOT / "cli-data")}
    return subprocess.run(
        [sys.executable, "-m", "kettle_cli", *map(str, words)],
        capture_output=True,
        text=True,
        check=False,
        env=environment,
        cwd=TOP,
    )


class Commands(unittest.TestCase):
    def test_take_compose_and_inspect_go_the_whole_way(self):
        out, program = ROOT / "by-command", ROOT / "by-command.mp4"
        done = kettle("take", "--rig", "demo", "--seconds", 3, "--fast", "--out", out)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("3.000 s, 4 tracks", done.stdout)
        self.assertIn("Recording", done.stderr)
        done = kettle("compose", out, "--out", program)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertGreater(program.stat().st_size, 10_000)
        again = kettle("compose", out, "--out", program)
        self.assertEqual(again.returncode, 2)
        self.assertIn("was left alone", again.stderr)
        found = json.loads(kettle("inspect", out, "--json").stdout)
        keys = {"kind", "codec", "size", "fps", "frames", "dropped", "duration_s", "offset_ms",
                "drift_ppm", "true_offset_ms", "true_drift_ppm"}  # fmt: skip
        self.assertTrue(all(keys <= row.keys() for row in found["tracks"]))
        self.assertIn("headset", kettle("inspect", out).stdout)

    def test_bad_input_is_a_sentence_and_status_2(self):
        full = copied_take("cli-full").path
        port = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(port.close)
        rig = ROOT / "bad.json"
        rig.write_text('{"version": 1}')
        for words, sentence in (
            (("take", "--rig", "kazoo", "--seconds", 1, "--out", ROOT / "x"), "Known rigs: demo"),
            (("take", "--rig", rig, "--seconds", 1, "--out", ROOT / "x"), "missing from the rig"),
            (("take", "--rig", "no.json", "--seconds", 1, "--out", ROOT / "x"), "cannot be read"),
            (("take", "--rig", "demo", "--seconds", 1, "--fast", "--out", full), "not empty"),
            (("take", "--rig", "demo", "--seconds", 0, "--out", ROOT / "x"), "--seconds takes"),
            (("compose", ROOT, "--out", ROOT / "x.mp4"), "is not a take"),
            (("compose", full, "--out", ROOT / "x.avi"), "written as .mp4"),
            (("compose", full, "--out", ROOT / "no" / "x.mp4"), "is not there"),
            (("inspect", ROOT / "nowhere"), "is not a take"),
            (("serve", "--port", port.getsockname()[1]), "in use; choose another"),
            (("serve", "--port", 0), "from 1 to 65535"),
        ):
            with self.subTest(words=words):
                done = kettle(*words)
                self.assertEqual(done.returncode, 2, done.stdout + done.stderr)
                self.assertIn(sentence, done.stderr)
                self.assertNotIn("Traceback", done.stderr)
        self.assertFalse((ROOT / "x").exists())

    def test_inspect_of_a_damaged_take_names_the_track(self):
        folder = copied_take("cli-damaged")
        (folder.path / "tracks" / "system.mkv").write_bytes(b"")
        done = kettle("inspect", folder.path)
        self.assertEqual(done.returncode, 1)
        self.assertIn("lacks its file system.mkv", done.stdout)

    def test_no_word_and_a_wrong_word_print_the_commands(self):
        for words, status in (((), 0), (("help",), 0), (("brew",), 2)):
            done = subprocess.run(
                [sys.executable, str(TOP / "kettle"), *words],
                capture_output=True,
                text=True,
                check=False,
            )
            self.assertEqual(done.returncode, status)
            self.assertIn("./kettle demo", done.stdout + done.stderr)
