"""Exports of other kinds: moving pictures, single frames, AV1, portrait; a part of a program."""

import io
import unittest
import zipfile
from contextlib import closing
from pathlib import Path
from tempfile import TemporaryDirectory

import av
import numpy as np
from PIL import Image

from kettle_core.assembly.cut_list import CutList, Piece, TitleCard
from kettle_core.assembly.export import Export, checked_length
from kettle_core.errors import CutError
from kettle_core.picture.picture import picture_from_i420, picture_to_rgb
from kettle_core.rig.format import Format
from kettle_core.rig.rig import Card
from kettle_media.assembly.export_file import export
from kettle_media.assembly.show import show_of_assembly
from kettle_media.program.renderer import Renderer
from tests.fixtures import demo_take

S = 10**9
SMALL = Format(854, 480)


class Kinds(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = demo_take(4)
        cls.take = folder.read_info().id
        cls.takes = {cls.take: folder}
        card = TitleCard("card1", Card("Fold"))
        pieces = Piece("p1", "card1", 0, S), Piece("p2", cls.take, 0, 3 * S)
        cls.cuts = CutList(pieces, (card,), fade_in_ms=200)

    def setUp(self):
        self.room = Path(self.enterContext(TemporaryDirectory()))

    def make(self, order):
        target = self.room / f"lesson.{order.suffix}"
        made = export(self.takes, self.cuts, SMALL, order, target)
        self.assertTrue(all(found.good for found in made.findings), made.findings)
        self.assertEqual([p.name for p in self.room.iterdir() if p.name[0] == "."], [])
        return target, made

    def frame(self, number, order):
        """A frame of the program as it is meant, (rows, columns, 3)."""
        with closing(
            show_of_assembly(self.takes, self.cuts, order.format(SMALL), part=order.crop(SMALL))
        ) as show:
            drawn = Renderer(show.plan, show.sources, show.masks).frame(number)
            return picture_to_rgb(picture_from_i420(drawn)).astype(int)

    def test_a_moving_picture_shows_a_stretch_and_goes_on_for_ever(self):
        for kind, off in (("gif", 12), ("webp", 6)):
            with self.subTest(kind):
                order = Export(kind, 480, from_ms=1500, until_ms=3500, fps=10)
                target, made = self.make(order)
                with Image.open(target) as image:
                    self.assertEqual((image.size, image.info.get("loop")), ((854, 480), 0))
                    image.seek(0)
                    there = np.asarray(image.convert("RGB")).astype(int)
                self.assertEqual(made.frames, 20)
                self.assertLess(np.abs(there - self.frame(45, order)).mean(), off)

    def test_it_is_no_larger_than_it_may_be_and_says_what_is_the_least(self):
        free, _ = self.make(Export("gif", 480, until_ms=1500, fps=12))
        most_mb = free.stat().st_size / 1e6 * 0.4
        target, made = self.make(Export("gif", 480, until_ms=1500, fps=12, max_mb=most_mb))
        self.assertLessEqual(target.stat().st_size, most_mb * 1e6)
        self.assertGreater(made.tries, 1)
        with self.assertRaisesRegex(CutError, r"smallest that it can be is 0\.\d MB"):
            export(
                self.takes, self.cuts, SMALL, Export("gif", 480, until_ms=1500, max_mb=0.001),
                self.room / "tiny.gif",
            )  # fmt: skip
        self.assertEqual([path.name for path in self.room.iterdir()], ["lesson.gif"])

    def test_frames_are_those_of_the_program(self):
        order = Export("png", 480, from_ms=1000, until_ms=1500)
        target, made = self.make(order)
        with zipfile.ZipFile(target) as archive:
            names = archive.namelist()
            last = Image.open(io.BytesIO(archive.read(names[-1])))
        self.assertEqual((len(names), made.frames, names[0]), (15, 15, "frame-00001.png"))
        off = np.abs(np.asarray(last).astype(int) - self.frame(44, order))
        self.assertLess(off.mean(), 1.5)

    def test_av1_is_seen_whole(self):
        order = Export("av1", 480, crf=30, speed="ultrafast", until_ms=3000)
        target, _ = self.make(order)
        with av.open(str(target)) as file:
            keys = [p.pts * p.time_base for p in file.demux(video=0) if p.is_keyframe]
            self.assertEqual([float(at) for at in keys], [0, 1])
        with av.open(str(target)) as file:
            self.assertIn("av1", file.streams.video[0].codec_context.codec.canonical_name)
            self.assertEqual(sum(1 for _ in file.decode(video=0)), 90)
            self.assertEqual(file.streams.audio[0].codec_context.name, "opus")

    def test_a_bitrate_is_kept_as_in_a_format(self):
        for kind in ("mp4", "webm"):
            how = {"speed": "ultrafast", "control": "constant", "kbps": 1500, "lufs": None}
            target, _ = self.make(Export(kind, 480, from_ms=1000, until_ms=3000, **how))
            with av.open(str(target)) as file:
                packets = [p.size for p in file.demux(video=0)]
            # VP9 pads nothing: what needs fewer bits takes fewer.
            share = sum(packets) * 8 / 2 / 1_500_000
            self.assertGreater(share, 0.9 if kind == "mp4" else 0.2)
            self.assertLess(share, 1.15)
        free, most = (
            self.make(Export("mp4", 480, crf=12, until_ms=2000, **how, control=control))[0]
            .stat().st_size
            for how in ({"speed": "ultrafast", "kbps": 300, "lufs": None},)
            for control in ("quality", "ceiling")
        )  # fmt: skip
        self.assertLess(most, free)
        with self.assertRaisesRegex(CutError, "no constant bitrate"):
            checked_length(Export("av1", control="constant"), 9, SMALL.fps)

    def test_portrait_shows_a_part_of_the_picture_and_the_whole_of_a_card(self):
        wide = self.frame(60, Export("mp4", 854))
        for aside in (0, 100):
            order = Export("mp4", 480, portrait=True, aside=aside)
            part = order.crop(SMALL)
            self.assertEqual((part.width, part.height), (480, 854))
            tall = self.frame(60, order)
            laid = order.format(SMALL).frame_size
            whole = self.frame(60, Export("mp4", laid[1]))
            self.assertEqual(whole.shape[1], laid[0])
            seen = whole[:, part.left : part.left + part.width]
            self.assertLess(np.abs(seen - tall).mean(), 1.0)
        self.assertEqual(wide.shape, (854, 1520, 3))
        card = self.frame(20, Export("mp4", 480, portrait=True))
        words = np.abs(card - card[5, 5]).sum(axis=2) > 60
        columns = np.flatnonzero(words.any(axis=0))
        self.assertAlmostEqual((columns[0] + columns[-1]) / 2, 240, delta=12)
        self.assertGreater(columns[0], 5)
        target, _ = self.make(Export("mp4", 480, crf=30, speed="ultrafast", portrait=True))
        with av.open(str(target)) as file:
            video = file.streams.video[0]
            self.assertEqual((video.width, video.height), (480, 854))

    def test_lengths_that_cannot_be_are_refused_before(self):
        for order, words in (
            (Export("gif", until_ms=61_000), "at most 60 s"),
            (Export("png"), "At most 3000 frames"),
            (Export("mp4", from_ms=900_000), "nothing between"),
            (Export("mp4", from_ms=5000, until_ms=4000), "nothing between"),
        ):
            with self.assertRaisesRegex(CutError, words):
                checked_length(order, 300, SMALL.fps)
        self.assertEqual(checked_length(Export(from_ms=1000, until_ms=4000), 300, SMALL.fps), 3)
