import contextlib
import io
import json
import os
import socket
import subprocess
import sys
import unittest
from pathlib import Path
from unittest import mock

from django.test import tag
from PIL import Image

from kettle_cli.__main__ import main
from kettle_engine.taking import TakingFlag
from kettle_media.rig_document import rig_to_dict
from kettle_studio.demo import demo_rig
from tests.cli.shell import Shell
from tests.fixtures import ROOT, copied_take

TOP = Path(__file__).parents[2]


DATA = ROOT / "cli-data"
SHELLS = {}


def started(*words):
    """A command that runs, its output in our hands."""
    environment = {
        **os.environ,
        "KETTLE_DATA": str(DATA),
        "DJANGO_SETTINGS_MODULE": "kettle_web.settings",
    }
    command = [sys.executable, "-m", "kettle_cli", *map(str, words)]
    pipe = subprocess.PIPE
    return subprocess.Popen(command, stdout=pipe, stderr=pipe, text=True, env=environment, cwd=TOP)


def kettle(*words):
    """A command that is run to its end, after others in one process."""
    if "shell" not in SHELLS:
        SHELLS["shell"] = Shell(DATA, TOP)
        unittest.addModuleCleanup(lambda: SHELLS.pop("shell").close())
    return SHELLS["shell"].run(*words)


def refused(*words):
    """A command that ends before it does anything, in this process: its status and sentence."""
    told = io.StringIO()
    argv = mock.patch.object(sys, "argv", ["kettle", *map(str, words)])
    with contextlib.redirect_stderr(told), argv, mock.patch("os.umask"):
        return main(), told.getvalue()


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

    def test_sync_tells_what_is_known_and_measures_anew_when_asked(self):
        take = copied_take("sync-command").path
        found = json.loads(kettle("sync", take, "--json").stdout)
        rows = {row["name"]: row for row in found["tracks"]}
        self.assertEqual(rows["headset"]["clock"][0]["segment"], 0)
        self.assertEqual(len(rows["system"]["evidence"]), 1)
        self.assertLessEqual(rows["headset"]["least_ppm"], rows["headset"]["most_ppm"])
        self.assertIn("true_drift_ppm", rows["display-1"])
        report = json.loads((take / "sync.json").read_text())
        report["tracks"][0]["offset_ms"] = 1234.5
        (take / "sync.json").write_text(json.dumps(report))
        self.assertIn("+1234.50 ms", kettle("sync", take).stdout)
        again = kettle("sync", take, "--again")
        self.assertNotIn("+1234.50 ms", again.stdout)
        self.assertIn("[studio's truth:", again.stdout)
        self.assertEqual(kettle("sync", ROOT / "nowhere").returncode, 2)

    def test_one_frame_is_drawn_in_any_scene_at_any_time(self):
        take, out = copied_take("one-frame").path, ROOT / "frame.png"
        done = kettle("compose", take, "--scene", "Title", "--at", "1.5", "--out", out)
        self.assertEqual(done.returncode, 0, done.stderr)
        with Image.open(out) as title:
            self.assertEqual(title.size, (640, 360))
            away = zip(title.getpixel((4, 4)), (0x22, 0x33, 0x3B), strict=True)
            self.assertLessEqual(max(abs(a - b) for a, b in away), 2)
        again = kettle("compose", take, "--at", "2", "--out", out, "--replace")
        self.assertEqual(again.returncode, 0, again.stderr)
        with Image.open(out) as sheet:
            red, green, blue = sheet.getpixel((467, 10))
            self.assertLess(abs(red - 46) + abs(green - 78) + abs(blue - 88), 12)
        for words, sentence in (
            (("--scene", "Nobody", "--at", "1"), "has no scene “Nobody”. It has “Sheet and me”"),
            (("--at", "99"), "lies outside the take, which is 4.000 s long"),
            (("--at", "1", "--out", "frame.jpg"), "One frame is written as .png"),
            (("--scene", "Title", "--out", "x.mp4"), "--scene goes with --at"),
        ):
            refused = kettle("compose", take, "--out", out, "--replace", *words)
            self.assertEqual(refused.returncode, 2)
            self.assertIn(sentence, refused.stderr)

    def test_composing_waits_while_a_take_is_recorded_and_goes_on_after(self):
        take, out = copied_take("cli-waits").path, ROOT / "waited.mp4"
        flag = TakingFlag(DATA)
        self.addCleanup(flag.close)
        flag.put(True)
        with started("compose", take, "--out", out) as process:
            told = ""
            while "Waits for the take" not in told:
                told = process.stderr.readline()
                self.assertTrue(told, "It has ended without waiting.")
            self.assertFalse(out.exists())
            flag.put(False)
            rest = process.communicate()[1]
        self.assertIn("Goes on.", rest)
        self.assertEqual(process.returncode, 0, rest)
        self.assertGreater(out.stat().st_size, 10_000)

    def test_a_rig_shows_its_plan(self):
        plan = json.loads(kettle("rig", "show", "demo", "--scene", "At the bench", "--json").stdout)
        self.assertEqual([x["input_id"] for x in plan["layers"]], ["webcam-1", "display-1"])
        self.assertEqual(list(plan["layers"][1]["target"].values()), [414, 20, 206, 116])
        self.assertEqual((plan["voice"], plan["change_over"]["kind"]), ("Headset", "glide"))
        self.assertIn("144 × 144 px at 482, 202", kettle("rig", "show", "demo").stdout)
        refused = kettle("rig", "show", "demo", "--scene", "Nobody")
        self.assertEqual(refused.returncode, 2)
        self.assertIn("no scene “Nobody”", refused.stderr)

    @tag("realtime")
    def test_a_take_in_real_time_has_every_track(self):
        out = ROOT / "by-the-wall-clock"
        done = kettle("take", "--rig", "demo", "--seconds", 2, "--out", out)
        self.assertIn("2.000 s, 4 tracks", done.stdout, done.stderr)
        found = json.loads(kettle("inspect", out, "--json").stdout)["tracks"]
        self.assertTrue(all(row["duration_s"] > 1 for row in found), found)

    def test_inputs_are_listed_and_rigs_carried(self):
        devices = {d["id"]: d for d in json.loads(kettle("inputs", "--json").stdout)}
        webcam = devices["webcam-1"]
        self.assertEqual((webcam["kind"], webcam["state"]), ("webcam", "free"))
        self.assertEqual([m["words"] for m in webcam["modes"]][-1], "1920 × 1080 px · 30 fps")
        self.assertIn("  Mail · window · free", kettle("inputs").stdout)
        first, second = ROOT / "first.rig.json", ROOT / "second.rig.json"
        rig = {"format": "vast-kettle-rig", "version": 1, "pictures": {}}
        first.write_text(json.dumps({**rig, "rig": rig_to_dict(demo_rig())}))
        done = kettle("rig", "import", first)
        self.assertIn("bench-rig: Bench rig, 9 inputs", done.stdout, done.stderr)
        done = kettle("rig", "export", "bench-rig", second)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(json.loads(second.read_text()), json.loads(first.read_text()))
        out = ROOT / "by-rig-file"
        done = kettle("take", "--rig", second, "--seconds", 1, "--fast", "--out", out)
        self.assertIn("4 tracks", done.stdout, done.stderr)
        for words, sentence in (
            (("export", "bench-rig", second), "was left alone"),
            (("export", "kazoo", ROOT / "x"), "Known: bench-rig"),
            (("import", ROOT / "no.json"), "cannot be read"),
            (("import", TOP / "README.md"), "not a rig file"),
        ):
            done = kettle("rig", *words)
            self.assertEqual((done.returncode, sentence in done.stderr), (2, True), done.stderr)

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
            (("serve", "--refresh", 1), "--refresh takes a number from 2 to 40"),
        ):
            with self.subTest(words=words):
                status, told = refused(*words)
                self.assertEqual(status, 2, told)
                self.assertIn(sentence, told)
        self.assertFalse((ROOT / "x").exists())
        # The same of a process: the status is its own, and nothing but the sentence is said.
        done = kettle("inspect", ROOT / "nowhere")
        self.assertEqual((done.returncode, done.stdout), (2, ""))
        self.assertRegex(done.stderr, r"^[^\n]* is not a take[^\n]*\n$")

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
