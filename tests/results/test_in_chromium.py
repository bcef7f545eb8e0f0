"""Exports as Chromium's own player shows and plays them."""

import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

from kettle_bench.truth.browsing import chromium_faults
from kettle_bench.truth.coded import coded_take
from kettle_core.assembly.cut_list import CutList, Piece
from kettle_core.assembly.export import Export
from kettle_media.assembly.export_file import export
from tests.browser.case import chromium

S = 10**9


class Player(unittest.TestCase):
    def test_frames_and_clicks_are_where_they_belong(self):
        room = Path(self.enterContext(TemporaryDirectory()))
        folder = coded_take(room / "take", 8)
        take, format_ = folder.read_info().id, folder.read_info().rig_values.format
        pieces = (Piece("a", take, 0, 3 * S), Piece("b", take, 3 * S, 6 * S, percent=200),
                  Piece("c", take, 6 * S, 8 * S))  # fmt: skip
        origin_s, numbers = 9 / 30, (*range(90), *range(90, 180, 2), *range(180, 240))
        clicks_s = [*(n - origin_s for n in (1, 2, 3)), *(n - 1.5 - origin_s for n in (7, 8))]
        for kind in ("mp4", "webm"):
            path = room / f"made.{kind}"
            order = Export(kind, 480, crf=30, speed="ultrafast", lufs=None)
            export({take: folder}, CutList(pieces), format_, order, path)
            with self.subTest(kind=kind):
                shown = [9 + number for number in numbers]
                self.assertEqual(chromium_faults(chromium(), path, shown, clicks_s), [])
                self.assertTrue(chromium_faults(chromium(), path, shown[1:], clicks_s[1:]))
