"""Exports: files that others open, no larger than they may be, as loud as they should be."""

import shutil
import unittest
from contextlib import closing
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

import av
import numpy as np

from kettle_core.assembly.cut_list import CutList, Music, Piece, TitleCard
from kettle_core.assembly.export import Export
from kettle_core.errors import CutError, TakeError
from kettle_core.program.cues import Step, ToScene
from kettle_core.rig.format import Format
from kettle_core.rig.rig import Card
from kettle_media.assembly import check_export as checking
from kettle_media.assembly import export_file
from kettle_media.assembly.check_export import Finding, check_export
from kettle_media.assembly.export_file import MOST_TRIES, export
from kettle_media.assembly.show import show_of_assembly
from kettle_media.tags import Tags
from kettle_media.take.cues import write_cues
from tests.fixtures import ROOT, copied_take, demo_take
from tests.small_disk import small_disk

S = 10**9
SMALL = Format(854, 480)
TAGS = Tags("Fold lines", "How a card is folded.\nNo glue — only paper.")


def said_by(file):
    """The title and the description that a file says, whatever its container calls them."""
    known = {name.lower(): text for name, text in file.metadata.items()}
    return known.get("title"), known.get("description", known.get("comment"))


class Exports(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = demo_take(4)
        take = folder.read_info().id
        cls.takes = {take: folder}
        cls.cuts = CutList((Piece("p1", take, 0, S), Piece("p2", take, 3 * S // 2, 4 * S)))

    def setUp(self):
        room = TemporaryDirectory()
        self.addCleanup(room.cleanup)
        self.room = Path(room.name)

    def make(self, order, name=None, **more):
        target = self.room / (name or f"lesson.{order.kind}")
        return target, export(self.takes, self.cuts, SMALL, order, target, **more)

    def test_a_picture_in_either_container_is_as_long_as_loud_and_as_large_as_it_should_be(self):
        for order, codecs in (
            (Export("mp4", 480, crf=24), ("h264", "aac")),
            (Export("webm", 480, crf=30, speed="ultrafast", lufs=None), ("vp9", "opus")),
        ):
            with self.subTest(order.kind):
                told = []
                target, made = self.make(order, on_progress=lambda *at, told=told: told.append(at))
                self.assertEqual((made.frames, made.tries), (105, 1))
                self.assertTrue(all(found.good for found in made.findings), made.findings)
                with av.open(str(target)) as file:
                    video, audio = file.streams.video[0], file.streams.audio[0]
                    self.assertEqual((video.codec_context.name.replace("libdav1d", ""),
                                      audio.codec_context.name), codecs)  # fmt: skip
                    self.assertEqual((video.width, video.height), (854, 480))
                    self.assertEqual(sum(1 for _ in file.decode(video=0)), 105)
                done = [at for at, _ in told]
                self.assertEqual(done, sorted(done))
                self.assertEqual(told[-1][0], told[-1][1])
        self.assertEqual(sorted(p.name for p in self.room.iterdir()), ["lesson.mp4", "lesson.webm"])

    def test_steps_are_chapters_in_the_file_and_beside_it(self):
        folder = copied_take("exported-steps", 4)
        write_cues(folder, (ToScene(0, "scene-1"), Step(S, "Fold"), Step(3 * S, "Sew")))
        take = folder.read_info().id
        cuts = CutList((Piece("p1", take, 0, 4 * S),))
        for kind in ("mp4", "webm"):
            order = Export(kind, 480, crf=40, speed="ultrafast", lufs=None)
            target = self.room / f"steps.{kind}"
            export({take: folder}, cuts, SMALL, order, target, tags=TAGS)
            with av.open(str(target)) as file:
                told = [(float(c["start"] * c["time_base"]), c["metadata"]["title"])
                        for c in file.chapters()]  # fmt: skip
                self.assertEqual(said_by(file), ("Fold lines", TAGS.description))
            self.assertEqual(told, [(0, "Opening"), (1, "Fold"), (3, "Sew")])
        beside = (self.room / "steps.mp4.chapters.vtt").read_text()
        self.assertIn("00:00:01.000 --> 00:00:03.000\nFold\n", beside)

    def test_a_folder_in_the_place_of_a_file_or_its_chapters_leaves_all_as_it_was(self):
        there = self.room / "lesson.wav"
        there.write_bytes(b"before")
        for name in ("lesson.wav.chapters.vtt", "other.wav"):
            (self.room / name).mkdir()
            with self.assertRaisesRegex(CutError, f"{name} is a folder. Choose another name."):
                self.make(Export("wav"), name.removesuffix(".chapters.vtt"))
            self.assertEqual(there.read_bytes(), b"before")
            (self.room / name).rmdir()

    def test_sound_alone_is_brought_to_a_loudness(self):
        for kind, codec in (
            ("wav", "pcm_s24le"),
            ("flac", "flac"),
            ("mp3", "mp3float"),
            ("m4a", "aac"),
        ):
            with self.subTest(kind):
                target, made = self.make(Export(kind, lufs=-20.0), tags=TAGS)
                named = {found.name: found.words for found in made.findings}
                self.assertAlmostEqual(float(named["Loudness"].split()[0]), -20, delta=0.7)
                self.assertGreater(abs(made.lufs_before + 20), 1)
                with av.open(str(target)) as file:
                    self.assertEqual(file.streams.audio[0].codec_context.name, codec)
                    self.assertFalse(file.streams.video)
                    self.assertEqual(said_by(file), ("Fold lines", TAGS.description))
                    samples = np.concatenate(
                        [f.to_ndarray().reshape(-1) for f in file.decode(audio=0)]
                    )
                self.assertGreater(np.abs(samples.astype(float)).max(), 0)

    def test_what_is_too_quiet_to_be_as_loud_is_exported_all_the_same_and_says_so(self):
        card = TitleCard("card1", Card("Fold"))
        quiet = CutList((Piece("p1", "card1", 0, 3 * S),), (card,), music=Music("bells", -40))
        target = self.room / "quiet.wav"
        made = export({}, quiet, SMALL, Export("wav"), target)
        told = {found.name: found for found in made.findings}["Loudness"]
        self.assertTrue(told.good)
        self.assertIn("-16 wanted", told.words)
        self.assertLess(float(told.words.split()[0]), -20)

    def test_pictures_that_lie_elsewhere_or_are_others_are_found(self):
        take, length = next(iter(self.takes)), 39 * S // 10
        target, order = self.room / "there.mp4", Export("mp4", 480, crf=12, lufs=None)
        cuts = CutList((Piece("p1", take, 0, length),))
        export(self.takes, cuts, SMALL, order, target)
        # A tenth of a second later, and a card.
        for piece in (Piece("p1", take, S // 10, 4 * S), Piece("p1", "card1", 0, length)):
            cuts = CutList((piece,), (TitleCard("card1", Card("Fold", backdrop="#ffffff")),))
            with closing(show_of_assembly(self.takes, cuts, Format(854, 480))) as show:
                found = {f.name: f for f in check_export(target, show, order, None)}
            self.assertFalse(found["Pictures"].good, found["Pictures"].words)
            self.assertTrue(found["Frames"].good)

    def test_no_larger_than_is_kept_and_used_up_where_quality_does_not_end_first(self):
        for mb in (0.08, 0.16):
            target, made = self.make(Export("mp4", 480, max_mb=mb), f"{mb}.mp4")
            size = target.stat().st_size
            self.assertLessEqual(size, mb * 1e6)
            self.assertGreaterEqual(size, 0.95 * mb * 1e6, made.tries)
            self.assertEqual(size, made.size_bytes)
        _, made = self.make(Export("mp4", 480, speed="ultrafast", max_mb=900))
        self.assertLess(made.size_bytes, 30e6)
        with self.assertRaisesRegex(CutError, r"at least 0\.\d MB"):
            self.make(Export("mp4", 2160, max_mb=0.01))

    def test_where_no_size_lies_near_the_wanted_one_the_best_that_fits_is_kept(self):
        def encoded(work, aim, frames):
            sizes.append(next(given))
            work._part.write_bytes(bytes(sizes[-1]))

        sizes = []
        # Never between 95 and 100 %: 80, then always too much, then the first one once more.
        given = iter([70_000, 80_000, *[120_000] * 4, 80_000])
        found = Finding("Size", "as wanted", True)

        def another(order, aim, *_):
            return replace(aim, kbps=aim.kbps + 1)

        patched = mock.patch.multiple(
            export_file, check_export=lambda *_: [found], next_aim=another
        )
        with patched, mock.patch.object(export_file._Work, "_encode", encoded):
            work = Export("mp4", 480, max_mb=0.1, lufs=None)
            target, made = self.make(work, "near.mp4")
        self.assertEqual((made.size_bytes, made.tries), (80_000, MOST_TRIES + 1))
        self.assertEqual(target.stat().st_size, 80_000)

    def test_what_fails_leaves_what_was_there_and_nothing_half_written(self):
        target = self.room / "lesson.mp4"
        target.write_bytes(b"before")

        def ends(done, total):
            if done > 30:
                raise TakeError("enough")

        with self.assertRaisesRegex(TakeError, "enough"):
            self.make(Export("mp4", 480), on_progress=ends)
        with (
            mock.patch.object(checking, "LEAST_PSNR_DB", 98.0),
            self.assertRaisesRegex(CutError, "not as it should be"),
        ):
            self.make(Export("mp4", 480))
        self.assertEqual([p.name for p in self.room.iterdir()], ["lesson.mp4"])
        self.assertEqual(target.read_bytes(), b"before")
        with small_disk(ROOT / "export-disk", 4) as disk:
            (disk / "full").write_bytes(bytes(shutil.disk_usage(disk).free - 60_000))
            with self.assertRaisesRegex(TakeError, "cannot be written"):
                export(self.takes, self.cuts, SMALL, Export("mp4", 480), disk / "lesson.mp4")
            self.assertEqual([p.name for p in disk.iterdir()], ["full"])
