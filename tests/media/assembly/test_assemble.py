"""Programs of cut lists: pieces of several takes, against the takes' own programs."""

import json
import shutil
import unittest
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from tempfile import TemporaryDirectory

import av
import jsonschema
import numpy as np

import kettle_media
from kettle_core.assembly import beds
from kettle_core.assembly.cut_list import CutList, Music, Piece, TitleCard
from kettle_core.errors import CutError, TakeError
from kettle_core.rig.format import Format
from kettle_core.rig.rig import Card
from kettle_media.assembly.assemble import assemble
from kettle_media.assembly.cut_file import CUTS, read_cuts
from kettle_media.assembly.show import show_of_assembly
from kettle_media.program.mix import ProgramMix
from kettle_media.program.renderer import Renderer
from tests.fixtures import ROOT, copied_take, demo_take
from tests.small_disk import small_disk

S, HZ = 10**9, 48_000
SMALL = Format(320, 180)


class Assembled(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folders = demo_take(4), demo_take(3)
        cls.one, cls.two = (folder.read_info().id for folder in folders)
        cls.takes = {cls.one: folders[0], cls.two: folders[1]}
        cls.cuts = CutList(
            (
                Piece("p1", cls.one, S, 3 * S),
                Piece("p2", cls.one, 3 * S, 4 * S, out=True),
                Piece("p3", cls.two, S // 2, 2 * S),
                Piece("p4", cls.one, 0, S, percent=200),
            )
        )

    def show(self, cuts):
        show = show_of_assembly(self.takes, cuts, SMALL)
        self.addCleanup(show.close)
        return show

    def whole(self, take):
        return self.show(CutList((Piece("p1", take, 0, (4 if take == self.one else 3) * S),)))

    @staticmethod
    def mix_of(show):
        plan = replace(show.plan, ducking=replace(show.plan.ducking, on=False))
        return ProgramMix(plan, show.sounds.read)

    def mix(self, cuts):
        return self.mix_of(self.show(cuts))

    def test_every_frame_is_that_of_its_take(self):
        show = self.show(self.cuts)
        self.assertEqual(show.plan.frames, 60 + 45 + 15)
        drawn = Renderer(show.plan, show.sources, show.masks)
        for take, pairs in (
            (self.one, ((0, 30), (37, 67), (59, 89), (105, 0), (112, 14), (119, 28))),
            (self.two, ((60, 15), (80, 35), (104, 59))),
        ):
            of = self.whole(take)
            wanted = Renderer(of.plan, of.sources, of.masks)
            for number, there in pairs:
                expected = wanted.frame(there).copy()
                np.testing.assert_array_equal(drawn.frame(number), expected, f"frame {number}")

    def test_every_sample_is_that_of_its_take_but_round_the_joins(self):
        mixed = {
            name: ProgramMix(
                replace(s.plan, ducking=replace(s.plan.ducking, on=False)), s.sounds.read
            )
            for name, s in (
                ("all", self.show(self.cuts)),
                (self.one, self.whole(self.one)),
                (self.two, self.whole(self.two)),
            )
        }
        heard = {name: mix.read(HZ * 3) for name, mix in mixed.items()}
        # Where nothing is near full scale the limiter changes nothing.
        away = HZ // 50
        found = heard["all"]
        for first, until, take, there in (
            (0, 2 * HZ, self.one, HZ),
            (2 * HZ, 3 * HZ, self.two, HZ // 2),
        ):
            inside = slice(first + away, until - away)
            shift = there - first
            wanted = heard[take][:, inside.start + shift : inside.stop + shift]
            np.testing.assert_allclose(found[:, inside], wanted, atol=1e-4)
        step = np.abs(np.diff(found, axis=1)).max(axis=0)
        join = step[2 * HZ - away : 2 * HZ + away].max()
        self.assertLessEqual(join, max(0.01, np.quantile(step, 0.999)))

    def test_what_runs_faster_is_silent_or_heard_at_its_pitch(self):
        *rest, last = self.cuts.pieces
        for sound in ("off", "stretched"):
            cuts = CutList((*rest, replace(last, sound=sound)))
            faster = self.mix(cuts).read(4 * HZ)[:, 3 * HZ + HZ // 2 + 1000 :]
            self.assertEqual(float(np.abs(faster).max()) > 0.01, sound == "stretched")

    def test_a_card_fills_the_frame_and_the_whole_comes_out_of_black_and_goes_into_it(self):
        card = Card("Folding\na signature", size_px=96, backdrop="#ff0000")
        first, *_ = self.cuts.pieces
        pieces = Piece("p9", "card1", 0, S), first
        cuts = CutList(pieces, (TitleCard("card1", card),), fade_in_ms=500, fade_out_ms=1000)
        show = self.show(cuts)
        self.assertEqual(show.plan.frames, 90)
        drawn = Renderer(show.plan, show.sources, show.masks)
        frames = [drawn.frame(n).astype(int).copy() for n in range(90)]
        black = np.full((180, 320), 16)
        for number in (0, 89):
            np.testing.assert_array_equal(frames[number][:180], black)
            self.assertEqual({*frames[number][180:].flat}, {128})
        # A third of the way, and wholly there.
        there = frames[20][:180]
        np.testing.assert_allclose(frames[5][:180] - 16, (there - 16) / 3, atol=1)
        self.assertEqual(there[4, 4], 63)
        self.assertGreater((there[60:120, 80:240] > 200).sum(), 300)
        np.testing.assert_array_equal(frames[29], frames[15])
        of = self.whole(self.one)
        wanted = Renderer(of.plan, of.sources, of.masks).frame(40)
        np.testing.assert_array_equal(frames[40], wanted)
        mix = self.mix(cuts)
        heard = np.concatenate([mix.read(3 * HZ), mix.flush()], axis=1)
        self.assertEqual(float(np.abs(heard[:, : HZ - 1000]).max()), 0)
        self.assertGreater(float(np.abs(heard[:, 3 * HZ // 2 : 2 * HZ]).max()), 0.01)
        self.assertLess(float(np.abs(heard[:, -4000:-1600]).max()), 0.05)
        self.assertEqual(float(np.abs(heard[:, -1500:]).max()), 0)

    def test_music_lies_under_all_of_it_and_gives_way_to_the_voice(self):
        first, *_ = self.cuts.pieces
        card = TitleCard("card1", Card("Fold"))
        bare = CutList((Piece("p9", "card1", 0, 6 * S), first), (card,))
        music = Music("strings", 0.0, fade_ms=500)
        show = self.show(replace(bare, music=music))
        mix = ProgramMix(show.plan, show.sounds.read)
        heard = np.concatenate([mix.read(8 * HZ), mix.flush()], axis=1)
        without = self.mix(bare)
        alone = heard - np.concatenate([without.read(8 * HZ), without.flush()], axis=1)
        bed_ = beds.bed("strings")
        np.testing.assert_allclose(heard[:, HZ : 4 * HZ], bed_[:, HZ : 4 * HZ], atol=1e-4)
        self.assertEqual(float(np.abs(heard[:, 0]).max()), 0)
        levels = [
            float((alone[:, a : a + HZ // 2] * bed_[:, a : a + HZ // 2]).sum()
                  / (bed_[:, a : a + HZ // 2] ** 2).sum())
            for a in (3 * HZ, 13 * HZ // 2)
        ]  # fmt: skip
        self.assertAlmostEqual(levels[0], 1, delta=0.01)
        self.assertLess(levels[1], 0.6)

    def test_it_is_a_file_of_that_length_and_one_that_fails_leaves_nothing(self):
        with TemporaryDirectory() as name:
            target = Path(name) / "lesson.mp4"
            told = []
            frames = assemble(self.takes, self.cuts, SMALL, target, lambda *at: told.append(at))
            self.assertEqual(told[-1], (frames, frames))
            with av.open(str(target)) as file:
                video, audio = file.streams.video[0], file.streams.audio[0]
                self.assertEqual((video.width, video.height, video.frames), (320, 180, 120))
                self.assertEqual(video.average_rate, Fraction(30))
                self.assertAlmostEqual(float(audio.duration * audio.time_base), 4.0, delta=0.03)
            before = target.read_bytes()

            def ends(done, total):
                if done > 30:
                    raise TakeError("enough")

            with self.assertRaisesRegex(TakeError, "enough"):
                assemble(self.takes, self.cuts, SMALL, target, ends)
            self.assertEqual([p.name for p in target.parent.iterdir()], ["lesson.mp4"])
            self.assertEqual(target.read_bytes(), before)

    def test_a_disk_that_fills_and_a_take_that_goes_meanwhile_leave_nothing_half_written(self):
        with small_disk(ROOT / "assembly-disk", 4) as disk:
            (disk / "full").write_bytes(bytes(shutil.disk_usage(disk).free - 60_000))
            with self.assertRaisesRegex(TakeError, "cannot be written"):
                assemble(self.takes, self.cuts, SMALL, disk / "lesson.mp4")
            self.assertEqual([p.name for p in disk.iterdir()], ["full"])
        gone = copied_take("gone-meanwhile", 3)
        takes = {**self.takes, self.two: gone}
        with TemporaryDirectory() as name:
            target = Path(name) / "lesson.mp4"

            def goes(done, total):
                shutil.rmtree(gone.path, ignore_errors=True)

            with self.assertRaises(TakeError) as caught:
                assemble(takes, self.cuts, SMALL, target, goes)
            self.assertIn(gone.path.name, str(caught.exception))
            self.assertEqual(list(Path(name).iterdir()), [])

    def test_what_is_missing_is_told_in_words(self):
        for cuts, words in (
            (CutList((Piece("p1", "gone", 0, S),)), "the take gone, which is not there"),
            (CutList((Piece("p1", self.one, 0, S, out=True),)), "Nothing is left"),
            (CutList(), "Nothing is left"),
        ):
            with self.assertRaisesRegex(CutError, words):
                show_of_assembly(self.takes, cuts, SMALL)

    def test_a_piece_comes_out_of_black_and_goes_into_it_with_its_sound_and_music_goes_on(self):
        pieces = (
            Piece("p1", self.one, 0, 2 * S, fade_out_ms=500),
            Piece("p2", self.two, 0, 2 * S, fade_in_ms=500),
        )
        plain = tuple(replace(p, fade_in_ms=0, fade_out_ms=0) for p in pieces)
        shows = [self.show(CutList(found)) for found in (pieces, plain)]
        draws = [Renderer(show.plan, show.sources, show.masks) for show in shows]

        def luma(number):
            return [float(draw.frame(number)[:180].mean()) - 16 for draw in draws]

        for number, share in ((30, 1), (52, 7 / 15), (59, 0), (60, 0), (67, 7 / 15), (80, 1)):
            dark, light = luma(number)
            self.assertAlmostEqual(dark, share * light, delta=1.5, msg=number)
        dark, light = (self.mix_of(show).read(4 * HZ) for show in shows)
        np.testing.assert_array_equal(dark[:, : HZ // 2], light[:, : HZ // 2])
        quiet, loud = (
            np.sqrt(np.mean(sound[:, 2 * HZ - 2400 : 2 * HZ + 2400] ** 2))
            for sound in (dark, light)
        )
        self.assertLess(quiet, 0.12 * loud)
        music = self.show(CutList(pieces, music=Music("strings", -6)))
        under = music.plan.lines[-1].gains(2 * HZ - 100, 200)
        self.assertGreater(under.min(), 0.4)

    def test_the_published_schema_is_the_one_that_is_read_by(self):
        published = Path(kettle_media.__file__).parent / "schemas" / "cuts.schema.json"
        self.assertEqual(json.loads(published.read_text()), CUTS.schema())
        jsonschema.validate(json.loads(CUTS.write(self.cuts)), CUTS.schema())

    def test_a_cut_list_goes_to_a_file_and_back_and_odd_ones_are_refused(self):
        with TemporaryDirectory() as name:
            path = Path(name) / "cuts.json"
            path.write_text(CUTS.write(self.cuts))
            self.assertEqual(read_cuts(path), self.cuts)
            for text, words in (
                ("{", "is no JSON"),
                ('{"pieces": [{"id": "a"}]}', "take is missing"),
                (CUTS.write(self.cuts).replace('"percent":200', '"percent":0'), "at least 10"),
                (
                    CUTS.write(self.cuts).replace('"percent":200', '"percent":1000000'),
                    "at most 6400",
                ),
                (CUTS.write(self.cuts).replace('"off"', '"loud"'), "sound"),
            ):
                path.write_text(text)
                with self.subTest(words), self.assertRaisesRegex(CutError, words):
                    read_cuts(path)
            with self.assertRaisesRegex(CutError, "cannot be read"):
                read_cuts(Path(name) / "nothing.json")
