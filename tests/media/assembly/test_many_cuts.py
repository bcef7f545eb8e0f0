"""After two hundred cuts and speeds everything is still where it belongs, and nothing clicks."""

import random
import unittest
from contextlib import closing
from dataclasses import replace
from math import floor

import numpy as np

from kettle_core.assembly.cut_list import CutList, Piece
from kettle_core.assembly.laid import laid
from kettle_core.rig.format import Format
from kettle_media.assembly.show import show_of_assembly
from kettle_media.program.mix import ProgramMix
from kettle_media.program.renderer import Renderer
from tests.fixtures import demo_take

S, HZ, FPS = 10**9, 48_000, 30
TINY = Format(160, 90)
PIECES, LENGTH_S = 200, 4
PICTURE_OFF, SOUND_MS, STRETCHED_MS = 3.0, 1.0, 30.0


def heard(show):
    """All of a show's mix, nothing lowered, in the middle of both sides."""
    mix = ProgramMix(
        replace(show.plan, ducking=replace(show.plan.ducking, on=False)), show.sounds.read
    )
    return np.concatenate([mix.read(show.plan.samples), mix.flush()], axis=1).mean(axis=0)


def late_ms(part, whole, begin, most_ms):
    """By how much a part lies later in a whole than at `begin`, by what correlates most."""
    most = round(most_ms * HZ / 1000)
    around = whole[begin - most : begin + part.size + most]
    found = np.correlate(around, part, "valid")
    sums = np.concatenate([[0.0], np.cumsum(around**2)])
    power = sums[part.size :] - sums[: -part.size]
    score = found / np.sqrt(np.maximum(power * np.sum(part**2), 1e-12))
    return 1000 * (int(np.argmax(score)) - most) / HZ, float(score.max())


class ManyCuts(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        rng = random.Random(7)
        folder = demo_take(LENGTH_S)
        take = folder.read_info().id
        pieces = []
        for number in range(PIECES):
            from_ns = rng.randrange(0, (LENGTH_S - 1) * S)
            until_ns = from_ns + rng.randrange(S // 8, S)
            percent = rng.choice([100, 100, 100, 50, 150, 200])
            sound = rng.choice(["off", "stretched"]) if percent != 100 else "off"
            out = rng.random() < 0.2
            pieces.append(Piece(f"p{number}", take, from_ns, until_ns, out, percent, sound))
        cls.cuts = CutList(tuple(pieces))
        cls.rows = [one for one in laid(cls.cuts, TINY.fps) if not one.piece.out]
        cls.shows = [
            show_of_assembly({take: folder}, cuts, TINY)
            for cuts in (cls.cuts, CutList((Piece("w", take, 0, LENGTH_S * S),)))
        ]
        for show in cls.shows:
            cls.addClassCleanup(show.close)
        cls.found, cls.whole = (heard(show) for show in cls.shows)

    def test_pictures_lie_within_half_a_frame_of_where_they_belong(self):
        drawn, wanted = (Renderer(s.plan, s.sources, s.masks) for s in self.shows)
        frames = [wanted.frame(n).astype(np.int16) for n in range(LENGTH_S * FPS)]
        for one in self.rows[::8]:
            first, end = (round(ns * FPS / S) for ns in (one.start_ns, one.end_ns))
            for number in {first, end - 1}:
                at = (one.from_ns + (number * S / FPS - one.start_ns) * one.piece.speed) * FPS / S
                near = {floor(at), floor(at + 0.5)} & set(range(len(frames)))
                off = min(np.abs(drawn.frame(number) - frames[n]).mean() for n in near)
                self.assertLess(off, PICTURE_OFF, (one.piece, number))

    def test_sound_lies_within_a_millisecond_of_where_it_belongs(self):
        looked = {"as it is": 0, "stretched": 0}
        for one in self.rows:
            speed, piece = float(one.piece.speed), one.piece
            first, end = (round(ns * HZ / S) for ns in (one.start_ns, one.end_ns))
            middle, size = (first + end) // 2, min(end - first - HZ // 12, HZ // 4)
            if size < HZ // 20 or (speed != 1 and piece.sound == "off"):
                continue
            part = self.found[middle - size // 2 : middle - size // 2 + size]
            there = round(float(one.from_ns) * HZ / S + (middle - size // 2 - first) * speed)
            if np.abs(part).max() < 0.02 or speed != 1 or not HZ // 10 < there < 3.7 * HZ - size:
                looked["stretched"] += speed != 1
                continue
            looked["as it is"] += 1
            late, score = late_ms(part, self.whole, there, 40)
            self.assertGreater(score, 0.9, piece)
            self.assertLess(abs(late), SOUND_MS, piece)
        self.assertGreater(looked["as it is"], 20)
        self.assertGreater(looked["stretched"], 10)

    def test_no_join_is_a_step_that_the_program_has_not_elsewhere(self):
        steps = np.abs(np.diff(self.found))
        most = max(0.01, float(np.quantile(steps, 0.999)))
        places = {
            at for line in self.shows[0].plan.lines for at in (line.first_sample, line.end_sample)
        }
        self.assertGreater(len(places), PIECES // 2)
        for at in sorted(places):
            if 20 < at < steps.size - 20:
                # A knock of the lesson has steps too, but not one alone.
                around = max(steps[at - 12 : at - 2].max(), steps[at + 2 : at + 12].max())
                self.assertLessEqual(steps[at - 1 : at + 1].max(), max(most, 1.5 * around), at)

    def test_it_is_as_long_as_its_pieces(self):
        with closing(self.shows[0]) as show:
            self.assertEqual(show.plan.frames, round(self.rows[-1].end_ns * FPS / S))
            self.assertEqual(self.found.size, show.plan.samples)
