"""What README.md says to type, word by word, on a data folder that is new."""

import re
import shlex
import tempfile
import unittest
from pathlib import Path

import numpy as np

from kettle_media.sound.sound_file import write_sound_file
from tests.browser.case import TOP
from tests.cli.shell import Shell
from tests.core.sound.signals import noise, words


def examples():
    """The commands of the section “Without pages”."""
    text = (TOP / "README.md").read_text()
    block = re.search(r"## Without pages\n\n```\n(.*?)```", text, re.S)[1]
    return [line.partition("#")[0].strip() for line in block.splitlines()]


class Readme(unittest.TestCase):
    def test_every_example_does_what_it_says(self):
        room = tempfile.TemporaryDirectory()
        self.addCleanup(room.cleanup)
        here = Path(room.name)
        spoken = words(8) + noise(1, 8, 0.01)
        late = np.concatenate([np.zeros((1, 4800), np.float32), spoken], axis=1)
        sounds = {
            "in": spoken,
            "ref": spoken,
            "other": late,
            "voice": spoken,
            "music": noise(2, 8, 0.1),
        }
        for name, sound in sounds.items():
            write_sound_file(here / f"{name}.wav", sound, 48_000)
        shell = Shell(here / "data", here)
        self.addCleanup(shell.close)
        self.assertGreater(len(examples()), 12)
        for line in examples():
            first, *rest = shlex.split(line)
            self.assertEqual(first, "./kettle")
            if rest[0] == "logs":
                (here / "data" / "logs").mkdir(exist_ok=True)
                (here / "data" / "logs" / "web.log").write_text("2026-11-26T00:00:00.000Z INFO\n")
            with self.subTest(line):
                done = shell.run(*rest)
                self.assertEqual(done.returncode, 0, done.stderr)
                self.assertTrue(done.stdout)
        for made in ("program.mp4", "frame.png", "bench.rig.json", "out.wav"):
            self.assertGreater((here / made).stat().st_size, 1000, made)
