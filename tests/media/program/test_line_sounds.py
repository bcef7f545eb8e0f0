"""Sound at other speeds: its pitch, its length, its times; read in parts it is the same."""

import unittest
from fractions import Fraction

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from kettle_core.program.gain_lines import SoundLine
from kettle_core.timing.time_map import Source
from kettle_media.program.line_sounds import PART_SAMPLES, LineSounds

HZ = 48_000
TAKE = Source("take", "one")
KNOCK = np.hanning(480) * np.sin(2 * np.pi * 1000 * np.arange(480) / HZ)


class Material:
    """What can be heard of a source: a function of its samples."""

    def __init__(self, at):
        self.at = at

    def sound(self, input_id, tone, first, count):
        return np.asarray(self.at(np.arange(first, first + count))[np.newaxis], np.float32)


def knocks(samples):
    """One each half second, from a quarter on."""
    return KNOCK.take((samples - HZ // 4) % (HZ // 2), mode="clip")


def line(speed, seconds=20):
    return SoundLine(TAKE, "voice", 0, seconds * HZ, 3 * HZ, ((0, 0.0),), speed=Fraction(speed))


def sounds(at):
    return LineSounds({TAKE: Material(at)})


class Stretched(unittest.TestCase):
    def test_pitch_and_level_are_kept_over_the_seams(self):
        for speed in ("0.5", "1.5", "2", "4"):
            with self.subTest(speed):
                tone = sounds(lambda n: 0.5 * np.sin(2 * np.pi * 440 * n / HZ))
                heard = tone.read(line(speed), 0, 3 * PART_SAMPLES)[0]
                power = np.abs(np.fft.rfft(heard * np.hanning(heard.size)))
                self.assertAlmostEqual(power.argmax() * HZ / heard.size, 440, delta=0.5)
                steps = np.abs(np.diff(heard))
                self.assertLess(steps.max(), 2 * np.quantile(steps, 0.999))
                middle = heard.reshape(-1, 480).std(axis=1)
                self.assertAlmostEqual(float(np.median(middle)), 0.5 / 2**0.5, delta=0.01)

    def test_what_is_heard_lies_where_it_belongs(self):
        for speed in (Fraction(1, 2), Fraction(3, 2), Fraction(137, 100), Fraction(2)):
            with self.subTest(speed):
                heard = sounds(knocks).read(line(speed), 0, 10 * HZ)[0] ** 2
                for number in range(1, int(10 * speed * 2) - 1):
                    wanted = float(((number / 2 + 0.25) * HZ + 240) / speed)
                    begin = round(wanted - 0.05 * HZ)
                    near = heard[begin : begin + HZ // 10]
                    at = begin + float((np.arange(near.size) * near).sum() / near.sum())
                    self.assertLess(abs(at - wanted) / HZ * 1000, 30)

    def test_it_is_the_same_in_whatever_parts_it_is_read(self):
        whole = sounds(knocks).read(line("2"), 0, 10 * HZ)
        self.assertEqual(whole.shape, (1, 10 * HZ))

        @settings(max_examples=25, deadline=None)
        @given(st.integers(0, 9 * HZ), st.integers(1, HZ))
        def same(first, count):
            part = sounds(knocks).read(line("2"), first, count)
            np.testing.assert_array_equal(part, whole[:, first : first + count])

        same()

    def test_at_its_own_speed_it_is_what_was_recorded(self):
        heard = sounds(knocks).read(line("1"), 100, 5000)[0]
        np.testing.assert_array_equal(
            heard, knocks(np.arange(3 * HZ + 100, 3 * HZ + 5100)).astype("f4")
        )
