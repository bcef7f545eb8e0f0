"""Sizes of exports: what is aimed at fits, what can't be is refused with the smallest that can."""

import re
import unittest

from hypothesis import given
from hypothesis import strategies as st

from kettle_core.assembly.export import (
    LINES,
    Export,
    first_aim,
    least_mb,
    next_aim,
    picture_settings,
    sound_format,
)
from kettle_core.errors import CutError
from kettle_core.rig.devices import Mode
from kettle_core.rig.encoder_settings import AverageBitrate, ConstantQuality
from kettle_core.rig.format import Format


def mode(lines):
    return Mode(*Export(lines=lines).format(Format()).frame_size, Format().fps)


class Sizes(unittest.TestCase):
    @given(st.sampled_from(LINES), st.floats(0.1, 500), st.floats(2, 4000))
    def test_what_is_aimed_at_fits_or_the_smallest_size_is_told_which_does(
        self, lines, mb, seconds
    ):
        order = Export(lines=lines, max_mb=mb)
        try:
            aim = first_aim(order, mode(lines), seconds)
        except CutError as error:
            told = float(re.search(r"at least ([\d.]+) MB", str(error))[1])
            self.assertGreater(told, mb * 0.999)
            self.assertTrue(first_aim(Export(lines=lines, max_mb=told), mode(lines), seconds))
            return
        self.assertLess((aim.kbps + aim.sound_kbps) * seconds / 8000, mb)
        self.assertGreaterEqual(aim.sound_kbps, 32)

    @given(st.floats(0.2, 5), st.floats(1, 200), st.floats(2, 1200))
    def test_an_encoder_that_is_always_off_by_as_much_is_brought_to_the_size(
        self, off, mb, seconds
    ):
        order = Export(lines=480, max_mb=mb)
        if mb < least_mb(mode(480), seconds):
            return
        aim, tries = first_aim(order, mode(480), seconds), 0
        while aim and tries < 5:
            size = (off * aim.kbps + aim.sound_kbps + 20) * seconds * 125
            aim, tries = next_aim(order, aim, mode(480), seconds, size), tries + 1
        if size > 1e5 and off * 16 + 52 < mb * 8000 / seconds * 0.9:
            self.assertIsNone(aim)
            self.assertLessEqual(size, mb * 1e6)

    def test_shapes_are_kept_and_kinds_have_their_encoders(self):
        tall = Format(1080, 1920)
        self.assertEqual(Export(lines=480).format(tall).frame_size, (270, 480))
        self.assertEqual(
            picture_settings(Export(crf=18), None, mode(1080)).rate, ConstantQuality(18)
        )
        aim = first_aim(Export(max_mb=10), mode(1080), 60)
        self.assertIsInstance(picture_settings(Export(), aim, mode(1080)).rate, AverageBitrate)
        self.assertEqual(picture_settings(Export("webm"), None, mode(1080)).codec, "vp9")
        self.assertEqual(sound_format(Export("webm"), None).sound_codec, "opus")
