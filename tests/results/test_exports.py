"""Exports and added files, judged by others."""

import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np

from kettle_bench.truth.adding import added_faults, odd_files
from kettle_bench.truth.coded import coded_take
from kettle_bench.truth.cutting import CutJudge
from kettle_bench.truth.exporting import LOSSLESS, export_faults
from kettle_bench.truth.judges import need_judges
from kettle_core.assembly.cut_list import CutList, Piece
from kettle_core.assembly.export import Export
from kettle_core.program.cues import Step, ToScene
from kettle_core.rig.format import Format
from kettle_media.assembly.export_file import chapters_beside, export
from kettle_media.assembly.heard import coded, measured
from kettle_media.take.cues import write_cues
from tests.fixtures import copied_take

S, HZ = 10**9, 48_000


class Handed(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        need_judges()
        cls.room = Path(cls.enterClassContext(TemporaryDirectory()))

    def test_each_is_as_long_as_loud_and_named_as_is_promised(self):
        folder = copied_take("judged", 4)
        steps = (Step(S, "Fold <2> & more --> 'x'"), Step(3 * S, "Sew\n🧵"))
        write_cues(folder, (ToScene(0, "scene-1"), *steps))
        cuts = CutList((Piece("a", folder.read_info().id, 0, 4 * S),))
        for order in (
            *(Export(kind) for kind in LOSSLESS),
            Export("m4a", sound_kbps=64, lufs=-14),
            Export("mp3", sound_kbps=128, lufs=-23),
            Export("webm", 480, crf=45, speed="ultrafast", sound_kbps=64, lufs=-14),
            Export("mp4", 480, crf=35, speed="ultrafast", until_ms=2500),
        ):
            with self.subTest(order=order):
                faults = export_faults(folder, cuts, Format(854, 480), order, self.room)
                self.assertEqual(faults, [])
        told = chapters_beside(self.room / "made.mp4").read_text()
        self.assertIn("\nFold &lt;2&gt; &amp; more --&gt; 'x'\n", told)
        # Chapters are a file's own: another one of the same stem has others, or none.
        plain = CutList((Piece("a", folder.read_info().id, 0, S // 2),))
        order, takes = Export("mp3"), {folder.read_info().id: folder}
        export(takes, plain, Format(854, 480), order, self.room / "made.mp3")
        self.assertFalse(chapters_beside(self.room / "made.mp3").exists())
        self.assertEqual(chapters_beside(self.room / "made.mp4").read_text(), told)

    def test_odd_files_are_shown_as_long_as_they_are_and_in_step(self):
        judge = CutJudge(coded_take(self.room / "take", 6), self.room)
        base = (self.room / "program.mp4").rename(self.room / "base.mp4")
        wanted = ("as it is", "WebM, Opus", "AVI, PCM")
        for name, path in odd_files(base, self.room, wanted):
            with self.subTest(name):
                self.assertEqual(added_faults(name, path, self.room / "files"), [])
        self.assertTrue(judge.take)

    def test_what_is_encoded_is_measured_as_it_is_heard(self):
        square = np.sign(np.sin(np.arange(3 * HZ) * 2 * np.pi * 220 / HZ)).astype(np.float32) * 0.8
        blocks = [np.stack([square, square])[:, at : at + HZ] for at in range(0, 3 * HZ, HZ)]
        path, plain = self.room / "heard", measured(blocks)
        few, many = (measured(coded(blocks, *how, path)) for how in (("aac", 32), ("aac", 256)))
        self.assertGreater(few.peak_dbtp, plain.peak_dbtp + 1)
        self.assertLess(abs(many.lufs - plain.lufs), 0.3)
        self.assertFalse(path.exists())
