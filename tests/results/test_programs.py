"""Random cut lists, composed: each frame and click where it belongs; time lines as long."""

import unittest
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory

from kettle_bench.truth.coded import coded_take
from kettle_bench.truth.cutting import CutJudge
from kettle_bench.truth.judges import loudness_of, need_judges
from kettle_core.assembly.cut_list import CutList, Piece
from kettle_core.rig.format import Format, ProgramFormat
from kettle_core.sound.tone import CEILING_DBTP
from kettle_media.assembly.assemble import assemble
from tests.fixtures import demo_take

S = 10**9


class Programs(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        need_judges()
        cls.room = Path(cls.enterClassContext(TemporaryDirectory()))
        cls.folder = coded_take(cls.room / "take", 12)
        cls.judge = CutJudge(cls.folder, cls.room)

    def test_what_was_kept_is_seen_and_heard_where_it_belongs(self):
        for seed in (13, 135, 251):
            with self.subTest(seed=seed):
                self.assertEqual(self.judge.faults(*self.judge.random(seed)), [])

    def test_a_click_that_was_kept_after_a_fast_stretch_is_heard(self):
        take = self.judge.take
        ends = (0, 6 * S, 8_650_000_000, 10 * S)
        pieces = (
            Piece(f"p{n}", take, a, b, percent=percent)
            for n, (a, b, percent) in enumerate(zip(ends, ends[1:], (100, 1600, 100), strict=False))
        )
        self.assertEqual(self.judge.faults(CutList(tuple(pieces)), self.judge.format), [])

    def test_the_judge_finds_what_is_wrong(self):
        meant = CutList((Piece("p1", self.judge.take, 2 * S, 6 * S),))
        for piece in (Piece("p1", self.judge.take, 2 * S + S // 10, 6 * S + S // 10),
                      Piece("p1", self.judge.take, 2 * S, 6 * S + S // 30)):  # fmt: skip
            told = self.judge.faults(meant, self.judge.format, shown=CutList((piece,)))
            self.assertTrue(told, piece)

    def test_a_program_in_mono_peaks_no_higher_than_it_may(self):
        folder = demo_take(4)
        take = folder.read_info().id
        cuts = CutList((Piece("p1", take, 0, 4 * S),))
        mono = ProgramFormat(channels=1)
        for written in (mono, ProgramFormat(sound_kbps=64), replace(mono, sample_rate_hz=44_100)):
            path = self.room / "mono.mp4"
            assemble({take: folder}, cuts, replace(Format(160, 90), program=written), path)
            self.assertLessEqual(loudness_of(path)[1], CEILING_DBTP)
