"""Cut lists through OpenTimelineIO and back, and as edit decision lists, read by other readers."""

import json
import unittest
from fractions import Fraction
from pathlib import Path
from tempfile import TemporaryDirectory

import opentimelineio as otio
from hypothesis import given, settings
from hypothesis import strategies as st

from kettle_core.assembly.cut_list import CutList, Music, Piece, TitleCard
from kettle_core.assembly.laid import laid, time_map
from kettle_core.errors import CutError
from kettle_core.rig.format import FRAME_RATES
from kettle_core.rig.rig import Card
from kettle_media.assembly.media import TakeMedia
from kettle_media.assembly.timeline_file import read_timeline, write_timeline
from tests.core.assembly.test_cut_list import ONE, TWO, S, cut_lists

MEDIA = {
    ONE: TakeMedia("Fold lines, take 1", "takes/one/program.mp4", 20 * S),
    TWO: TakeMedia("Fold lines, take 2", "takes/two/program.mp4", 8 * S),
}
NTSC = Fraction(30000, 1001)


class Timelines(unittest.TestCase):
    def setUp(self):
        room = TemporaryDirectory()
        self.addCleanup(room.cleanup)
        self.path = Path(room.name) / "fold.otio"

    def write(self, cuts, fps=Fraction(30)):
        write_timeline(self.path, cuts, fps, MEDIA, "Fold lines")
        return otio.adapters.read_from_file(str(self.path))

    @given(cuts=cut_lists(NTSC))
    @settings(max_examples=25, deadline=None)
    def test_there_and_back_every_piece_is_as_it_was(self, cuts):
        self.write(cuts, NTSC)
        again = read_timeline(self.path, NTSC, MEDIA)
        values = [(p.take, p.from_ns, p.until_ns, p.out, p.percent, p.sound) for p in cuts.pieces]
        found = [(p.take, p.from_ns, p.until_ns, p.out, p.percent, p.sound) for p in again.pieces]
        self.assertEqual(found, values)
        self.assertEqual(again.cards, cuts.cards)

    @given(cuts=cut_lists(), n=st.integers(0, 9))
    @settings(max_examples=15, deadline=None)
    def test_its_own_reader_has_clips_of_the_same_times(self, cuts, n):
        if not cuts.shown:
            return
        timeline = self.write(cuts)
        clips = list(timeline.video_tracks()[0])
        rows = [one for one in laid(cuts, Fraction(30)) if one.is_seen]
        self.assertEqual(len(clips), len(rows))
        one, clip = (many[n % len(rows)] for many in (rows, clips))
        self.assertAlmostEqual(clip.source_range.start_time.value, one.from_ns * 30 / S, delta=0.5)
        self.assertEqual(clip.duration().value, (one.end_ns - one.start_ns) * 30 / S)
        program = time_map(cuts, Fraction(30)).length_ns * 30 / S
        for track in timeline.tracks:
            self.assertEqual(track.duration().value, program)

    def test_what_another_program_changed_counts(self):
        cuts = CutList(
            (
                Piece("p1", ONE, 0, 4 * S),
                Piece("p2", ONE, 4 * S, 5 * S, out=True),
                Piece("p3", TWO, S, 3 * S, percent=200, sound="stretched"),
            )
        )
        timeline = self.write(cuts)
        track = timeline.video_tracks()[0]
        clip = track[1]
        del track[1]
        start, rate = clip.source_range.start_time, 30
        clip.source_range = otio.opentime.TimeRange(start, otio.opentime.RationalTime(15, rate))
        track.insert(0, clip)
        otio.adapters.write_to_file(timeline, str(self.path))
        found = read_timeline(self.path, Fraction(30), MEDIA)
        expected = [
            Piece("p1", TWO, S, 2 * S, percent=200),
            Piece("p2", ONE, 0, 4 * S),
            Piece("p3", ONE, 4 * S, 5 * S, out=True),
        ]
        self.assertEqual(list(found.pieces), expected)

    def test_a_file_of_the_version_before_is_read_as_it_was_written(self):
        piece = Piece("p1", ONE, 1_234_567_891, 3 * S + 17, percent=200, sound="stretched")
        timeline = self.write(CutList((piece,)))
        clip = timeline.video_tracks()[0][0]
        seconds = (1_234_567_891 / S, (3 * S + 17 - 1_234_567_891) / S / 2)
        clip.source_range = otio.opentime.TimeRange(
            *(otio.opentime.RationalTime(one * 30, 30) for one in seconds)
        )
        clip.effects[0].time_scalar = 2.0
        for name in ("written", "from_ns", "speed"):
            del clip.metadata["vast-kettle"][name]
        otio.adapters.write_to_file(timeline, str(self.path))
        self.assertEqual(read_timeline(self.path, Fraction(30), MEDIA).pieces, (piece,))

    def test_a_clip_that_another_program_made_is_found_by_its_file_or_name(self):
        timeline = otio.schema.Timeline("theirs")
        track = otio.schema.Track("V1")
        timeline.tracks.append(track)
        span = otio.opentime.TimeRange(
            otio.opentime.RationalTime(30, 30), otio.opentime.RationalTime(60, 30)
        )
        there = otio.schema.ExternalReference("/disk/takes/two/program.mp4")
        track.append(otio.schema.Clip("anything", there, span))
        track.append(otio.schema.Clip("Fold lines, take 1", None, span))
        otio.adapters.write_to_file(timeline, str(self.path))
        found = read_timeline(self.path, Fraction(30), MEDIA)
        self.assertEqual([(p.take, p.from_ns, p.until_ns) for p in found.pieces],
                         [(TWO, S, 3 * S), (ONE, S, 3 * S)])  # fmt: skip
        track.append(otio.schema.Clip("somebody else's", None, span))
        otio.adapters.write_to_file(timeline, str(self.path))
        with self.assertRaisesRegex(CutError, "Clip 3, “somebody else's”, is of no take"):
            read_timeline(self.path, Fraction(30), MEDIA)
        track[2] = otio.schema.Gap(source_range=span)
        otio.adapters.write_to_file(timeline, str(self.path))
        with self.assertRaisesRegex(CutError, "Item 3 is a gap"):
            read_timeline(self.path, Fraction(30), MEDIA)

    def test_an_edit_decision_list_is_as_long_as_the_program_for_another_reader(self):
        cuts = CutList(
            (
                Piece("p1", ONE, 2 * S + 7_000_000, 4 * S),
                Piece("p2", TWO, S, 5 * S, percent=200),
                Piece("p3", ONE, 4 * S, 9 * S, percent=1600, sound="stretched", fade_in_ms=200),
                Piece("p4", ONE, 9 * S, 10 * S + 123_456_789),
                Piece("p5", "card1", 0, 2 * S),
            ),
            (TitleCard("card1", Card("Next\ntime")),),
            music=Music("bells"),
        )
        path = self.path.with_suffix(".edl")
        for fps in map(Fraction, FRAME_RATES):
            with self.subTest(fps=fps):
                write_timeline(path, cuts, fps, MEDIA, 'Fold "lines"\nFCM: DROP FRAME')
                rate = float(fps * (2 if fps == 15 else 1))
                again = otio.adapters.read_from_file(str(path), rate=rate)
                rows = [one for one in laid(cuts, fps) if one.is_seen]
                for kind, count in ((again.video_tracks()[0], 5), (again.audio_tracks()[0], 3)):
                    clips = [c for c in kind if isinstance(c, otio.schema.Clip)]
                    self.assertEqual(len(clips), count)
                seen = again.video_tracks()[0]
                self.assertAlmostEqual(seen.duration().value / rate, float(rows[-1].end_ns / S), 6)
                for clip, one in zip(seen, rows, strict=True):
                    place = clip.source_range.start_time.value
                    self.assertAlmostEqual(place, float(one.from_ns / S) * rate, delta=0.5001)
                    scalars = [effect.time_scalar for effect in clip.effects]
                    self.assertAlmostEqual((scalars or [1])[0], float(one.speed), delta=0.01)
        text = path.read_text()
        self.assertEqual(text.count("FCM:"), 2)
        self.assertTrue(
            text.startswith('TITLE: Fold "lines" FCM: DROP FRAME\nFCM: NON-DROP FRAME\n')
        )
        reels = {line.split()[1] for line in text.splitlines() if line[:3].isdecimal()}
        self.assertEqual(reels, {"FOLDLIN1", "FOLDLIN2", "AX"})
        self.assertIn("* MUSIC UNDER THE WHOLE: bells, -6 DB", text)

    def test_odd_files_are_refused_in_words(self):
        for text in ("", "{", "[]", json.dumps({"OTIO_SCHEMA": "Nothing.9"})):
            self.path.write_text(text)
            with self.subTest(text), self.assertRaisesRegex(CutError, "fold.otio (is|has) no"):
                read_timeline(self.path, Fraction(30), MEDIA)
        for name, words in (("fold.mp4", "Timelines are .otio or .edl files"),):
            with self.assertRaisesRegex(CutError, words):
                write_timeline(self.path.with_name(name), CutList(), Fraction(30), MEDIA, "")
