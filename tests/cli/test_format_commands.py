"""estimate, rewrap, take by a format and a pattern: as they are typed."""

import contextlib
import hashlib
import importlib.machinery
import importlib.util
import io
import json
import shutil
import sys
import unittest
from unittest import mock

import av

from kettle_cli.__main__ import main
from kettle_cli.words import parser
from tests.browser.case import TOP
from tests.cli.test_commands import kettle, refused
from tests.fixtures import ROOT, copied_take


def told(*words):
    """What a command prints, run in this process."""
    out = io.StringIO()
    argv = mock.patch.object(sys, "argv", ["kettle", *map(str, words)])
    with argv, mock.patch("os.umask"), contextlib.redirect_stdout(out):
        status = main()
    return status, out.getvalue()


def digests(path):
    """MD5 of every packet of a file's picture or sound; their form differs between containers."""
    with av.open(str(path)) as container:
        stream = container.streams[0]
        packets = [p for p in container.demux(stream) if p.size]
        return [(p.pts * p.time_base, hashlib.md5(bytes(p)).hexdigest()) for p in packets]


class Estimating(unittest.TestCase):
    def test_each_track_all_and_the_program_with_range_and_where_it_comes_from(self):
        status, text = told("estimate", "demo", "--minutes", 90, "--json")
        found = json.loads(text)
        self.assertEqual((status, found["minutes"]), (0, 90))
        for row in (*found["tracks"], found["all"], found["program"]):
            span = row["range"]
            self.assertLessEqual(span["least_bytes"], row["bytes"])
            self.assertLessEqual(row["bytes"], span["most_bytes"])
            self.assertIn(row["basis"], ("arithmetic", "trial", "table"))
            self.assertAlmostEqual(row["mbit_per_s"] * 1e6 / 8 * 5400 / row["bytes"], 1, 3)
        self.assertEqual(len(found["tracks"]), 4)
        self.assertIn("Desk webcam", told("estimate", "demo")[1])

    def test_what_cannot_be_is_a_sentence(self):
        for words, sentence in (
            (("estimate", "demo", "--minutes", 0), "--minutes goes from above 0"),
            (("estimate", "kazoo"), "kazoo"),
            (("trial", ROOT / "nothing.json"), "nothing.json"),
            (("rewrap", ROOT / "nothing.mkv"), "is not there"),
        ):
            status, said = refused(*words)
            self.assertEqual(status, 2, said)
            self.assertIn(sentence, said)


class Rewrapping(unittest.TestCase):
    def test_every_packet_is_the_same_and_the_originals_stay(self):
        take = copied_take("rewrap-command")
        out = ROOT / "rewrapped"
        status, said = told("rewrap", take.path, "--out", out)
        self.assertEqual(status, 0)
        tracks = sorted((take.path / "tracks").glob("*.mkv"))
        self.assertEqual(said.count("packets"), len(tracks))
        for track in tracks:
            made = out / f"{track.stem}.mp4"
            self.assertEqual(
                [digest for _, digest in digests(made)], [digest for _, digest in digests(track)]
            )
            self.assertTrue(track.exists())
        again, complaint = refused("rewrap", tracks[0], "--out", out)
        self.assertEqual(again, 1)
        self.assertIn("was left alone", complaint)
        shutil.rmtree(out)


class Taking(unittest.TestCase):
    def test_a_take_by_a_format_from_a_file_and_names_by_a_pattern(self):
        format_ = ROOT / "small.format.json"
        track = {"rate": {"control": "constant", "kbps": 400}, "scale": "1/4", "fps": "15"}
        format_.write_text(json.dumps({"screens": track, "webcams": track}))
        folder = ROOT / "named"
        folder.mkdir()
        for _ in range(2):
            done = kettle(
                "take", "--rig", "demo", "--seconds", 1, "--fast", "--out", folder,
                "--format", format_, "--name-pattern", "{rig} take {take}",
            )  # fmt: skip
            self.assertEqual(done.returncode, 0, done.stderr)
        names = sorted(p.name for p in folder.iterdir())
        self.assertEqual(names, ["bench-rig-take-01", "bench-rig-take-02"])
        info = json.loads((folder / names[0] / "take.json").read_text())
        display = next(t for t in info["tracks"] if t["name"] == "display-1")
        self.assertEqual((display["mode"]["width"], display["mode"]["fps"]), (480, "15"))

    def test_a_format_or_pattern_that_will_not_do_is_a_sentence_and_nothing_is_recorded(self):
        bad = ROOT / "bad.format.json"
        for text, sentence in (
            ('{"fps": "31"}', "fps should be one of the frame rates"),
            ('{"frame_width": 1281}', "frame_width should be a multiple of 2"),
            ('{"kazoo": 1}', "kazoo is not known"),
            ("[", "is no JSON"),
        ):
            bad.write_text(text)
            words = ("take", "--rig", "demo", "--seconds", 1, "--out", ROOT / "never")
            status, said = refused(*words, "--format", bad)
            self.assertEqual(status, 2)
            self.assertIn(sentence, said)
        status, said = refused(*words, "--name-pattern", "../{rig}")
        self.assertEqual(status, 2)
        self.assertIn("single dots", said)
        self.assertFalse((ROOT / "never").exists())


class TheOneCommand(unittest.TestCase):
    def test_every_command_is_reached_by_it_and_told_in_its_help(self):
        loader = importlib.machinery.SourceFileLoader("kettle_script", str(TOP / "kettle"))
        spec = importlib.util.spec_from_loader("kettle_script", loader)
        script = importlib.util.module_from_spec(spec)
        loader.exec_module(script)
        known = {*script.FOR_USERS, *script.FOR_DEVELOPERS}
        (words,) = (a for a in parser()._actions if hasattr(a, "choices") and a.choices)
        self.assertEqual(known, set(words.choices))
        for name in known:
            self.assertIn(f"./kettle {name}", script.HELP)
