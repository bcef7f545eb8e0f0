"""Chapters lie where the steps of the takes begin, whatever was cut."""

import unittest
from fractions import Fraction

from hypothesis import given

from kettle_core.assembly.chapters import Chapter, as_webvtt, chapters
from kettle_core.assembly.cut_changes import at_speed, take_out, with_card
from kettle_core.assembly.cut_list import Place
from kettle_core.assembly.laid import time_map
from kettle_core.rig.rig import Card
from kettle_core.timing.time_map import Source
from tests.core.assembly.test_cut_list import ONE, TWO, S, cut_lists, known, whole

FPS = Fraction(30)
STEPS = {ONE: [(0, "Fold"), (5 * S, "Press"), (12 * S, "Sew")], TWO: [(2 * S, "Cut")]}


def titles(cuts):
    return [(c.at_ns / S, c.title) for c in chapters(cuts, FPS, STEPS, "Opening")]


class Chapters(unittest.TestCase):
    def test_they_follow_what_is_taken_out_made_faster_and_put_before(self):
        cuts = whole()
        self.assertEqual(titles(cuts), [(0, "Fold"), (5, "Press"), (12, "Sew"), (22, "Cut")])
        # The step's beginning is gone: it begins with the first of it.
        cuts = take_out(cuts, known(), Place("p1", 4 * S), Place("p1", 6 * S))
        cuts = at_speed(cuts, known(), Place("p1", 0), Place("p1", 4 * S), 200, False)
        self.assertEqual(titles(cuts)[:3], [(0, "Fold"), (2, "Press"), (8, "Sew")])
        cuts = with_card(cuts, known(), Card("Title"), 3 * S, "p1")
        self.assertEqual(titles(cuts)[:2], [(0, "Opening"), (3, "Fold")])
        self.assertEqual(chapters(cuts, FPS, {}, "Opening"), ())

    @given(cut_lists())
    def test_each_begins_where_its_step_is_seen(self, cuts):
        found = chapters(cuts, FPS, STEPS, "Opening")
        laid = time_map(cuts, FPS)
        self.assertEqual([c.at_ns for c in found], sorted(c.at_ns for c in found))
        for chapter in found:
            # Whole ns may lie just before the piece.
            if chapter.title == "Opening" or chapter.at_ns + 1 >= laid.length_ns:
                continue
            source, at_ns = laid.source_at(chapter.at_ns + 1)
            on = [title for begins, title in STEPS.get(source.id, ()) if begins <= at_ns + S // 15]
            self.assertEqual(source.kind, "take", Source)
            self.assertEqual(on[-1], chapter.title)

    def test_they_are_written_as_webvtt(self):
        text = as_webvtt([Chapter(0, "Fold"), Chapter(3_661_500_000_000, "Sew\nit")], 3_700 * S)
        cues = text.split("\n\n")
        self.assertEqual(cues[0], "WEBVTT")
        self.assertEqual(cues[1], "00:00:00.000 --> 01:01:01.500\nFold")
        self.assertEqual(cues[2], "01:01:01.500 --> 01:01:40.000\nSew it\n")
