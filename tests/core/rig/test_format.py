"""The format: what tracks are written as, what does not fit, what follows in bitrates."""

import unittest
from dataclasses import replace
from fractions import Fraction
from itertools import pairwise

from hypothesis import given
from hypothesis import strategies as st

from kettle_core.errors import RigError
from kettle_core.rig import estimate
from kettle_core.rig.changes import with_format
from kettle_core.rig.devices import Mode
from kettle_core.rig.encoder_settings import ConstantBitrate, ConstantQuality, rate_control
from kettle_core.rig.estimate import Measured, program_cost, together, track_costs
from kettle_core.rig.format import FRAME_RATES, SCALES, Format, Rate, TrackFormat
from kettle_core.rig.format_findings import format_findings, rate_fit
from kettle_core.rig.frame_choice import FrameChoice
from kettle_core.rig.purposes import PURPOSES
from kettle_core.rig.whole import check_rig
from kettle_studio.demo import demo_rig

RIG = demo_rig()
MODE = Mode(1280, 720, Fraction(30))
SIDES = st.integers(8, 3840).map(lambda n: 2 * n)


def with_tracks(**parts):
    return replace(RIG, format=replace(RIG.format, **parts))


class Tracks(unittest.TestCase):
    @given(SIDES, SIDES, st.sampled_from(SCALES), st.sampled_from(("0", *FRAME_RATES)))
    def test_a_track_is_even_and_no_larger_or_faster_than_what_comes(self, w, h, scale, fps):
        track = TrackFormat(Rate("quality"), scale=Fraction(scale), fps=Fraction(fps))
        made = track.written(Mode(w, h, Fraction(30)))
        self.assertEqual((made.width % 2, made.height % 2), (0, 0))
        self.assertTrue(16 <= made.width <= w and 16 <= made.height <= h and made.fps <= 30)

    def test_an_input_has_the_format_of_its_kind_or_its_own(self):
        own = TrackFormat(Rate("constant", kbps=900), scale=Fraction(1, 2))
        inputs = tuple(replace(i, track=own) if i.id == "webcam-1" else i for i in RIG.inputs)
        rig = replace(RIG, inputs=inputs)
        self.assertEqual(rig.track_mode(rig.input("webcam-1")).width, 960)
        self.assertEqual(rig.track_of(rig.input("webcam-2")), rig.format.webcams)
        self.assertEqual(rig.track_of(rig.input("tablet")), rig.format.screens)

    def test_rate_control_is_what_was_chosen_and_no_bitrate_is_one_by_size(self):
        for rate, made in (
            (Rate("quality", 18, 700), ConstantQuality(18)),
            (Rate("ceiling", 18, 700), ConstantQuality(18, 700)),
            (Rate("ceiling", 18), ConstantQuality(18, 6000)),
            (Rate("constant", 18, 700), ConstantBitrate(700)),
        ):
            self.assertEqual(rate_control(rate, MODE), made)

    def test_a_slower_track_has_the_newest_of_what_came_and_a_change_is_never_lost(self):
        slow = TrackFormat(Rate("quality"), fps=Fraction(10))
        choice, written = FrameChoice(slow, MODE), []
        changes = {0, 4, 5, 31}
        for number in range(60):
            at_ns = number * 10**9 // 30
            if choice.wants(number in changes, at_ns, 33_333_333):
                choice.written(at_ns)
                written.append(number)
        self.assertLessEqual(len(written), 2 * 10)
        self.assertGreaterEqual(min(b - a for a, b in pairwise(written)), 2)
        for change in changes:
            self.assertTrue(any(change <= n <= change + 3 for n in written), (change, written))

    def test_a_constant_bitrate_has_every_frame(self):
        choice = FrameChoice(TrackFormat(Rate("constant", kbps=500)), MODE)
        self.assertTrue(all(choice.wants(False, n * 33_333_333, 33_333_333) for n in range(30)))


class Frames(unittest.TestCase):
    def test_what_leaves_the_frame_as_large_as_it_was_moves_nothing(self):
        first, *rest = RIG.scenes
        odd = replace(first.layers[-1], box=replace(first.layers[-1].box, left=301, top=77))
        scene = replace(first, layers=(*first.layers[:-1], odd), layout="")
        rig = replace(RIG, scenes=(scene, *rest))
        changed = replace(rig.format, fps=Fraction(25), scaling="lanczos")
        self.assertEqual(with_format(rig, changed).scenes, rig.scenes)
        self.assertEqual(with_format(rig, changed).format, changed)


class Fits(unittest.TestCase):
    def test_rates_that_do_not_fit_are_said_with_what_becomes_of_the_frames(self):
        for program, given_, words in (
            ("60", 30, "every frame is shown twice"), ("15", 30, "one frame of 2"),
            ("24", 30, "6 frames of each second are left out"), ("30", 25, "5 frames"),
        ):  # fmt: skip
            self.assertIn(words, rate_fit(Fraction(program), Fraction(given_)))
        self.assertEqual(rate_fit(Fraction(30000, 1001), Fraction(30)), "")

    def test_a_display_that_is_scaled_is_said_and_the_fix_makes_it_1_to_1(self):
        self.assertEqual(format_findings(RIG), [])
        small = with_format(RIG, replace(RIG.format, frame_width=1280, frame_height=720))
        (found,) = format_findings(small)
        self.assertIn("67 % of its size: print of 12 px becomes 8.0 px", found.sentence)
        width, height = dict(found.fix)["size"].split("x")
        whole = replace(small.format, frame_width=int(width), frame_height=int(height))
        self.assertEqual(format_findings(with_format(small, whole)), [])

    def test_a_smaller_track_says_its_scale(self):
        rig = with_tracks(screens=replace(RIG.format.screens, scale=Fraction(1, 2)))
        sentences = " ".join(f.sentence for f in format_findings(rig))
        self.assertIn("960 × 540 px, 50 % of its 1920 × 1080 px", sentences)

    def test_what_no_encoder_could_do_is_refused_at_its_field(self):
        opus = replace(RIG.format.program, sound_codec="opus", sample_rate_hz=44_100)
        low = replace(RIG.format.webcams, rate=Rate("constant", kbps=3))
        dots = replace(RIG.format.files, pattern="../{rig}")
        for parts, field, words in (
            ({"program": opus}, "format.program.sample_rate_hz", "48 kHz only"),
            ({"webcams": low}, "format.webcams.rate.kbps", "at least 50 kbit/s"),
            ({"files": dots}, "format.files.pattern", "single dots"),
        ):
            with self.subTest(field), self.assertRaisesRegex(RigError, words) as caught:
                check_rig(with_tracks(**parts))
            self.assertEqual(caught.exception.field, field)

    def test_every_starting_point_is_a_format_that_holds_and_keeps_size_and_names(self):
        for purpose in PURPOSES:
            made = purpose.applied(replace(RIG.format, frame_width=1280, frame_height=720))
            check_rig(with_format(RIG, made))
            self.assertEqual(made.frame_size, (1280, 720))
            self.assertEqual(made.files.pattern, RIG.format.files.pattern)


class Costs(unittest.TestCase):
    def cost(self, rig, name, trials=None):
        return next(c for c in track_costs(rig, trials or {}) if c.id == name)

    def test_a_constant_bitrate_is_arithmetic_and_narrow(self):
        rig = with_tracks(webcams=replace(RIG.format.webcams, rate=Rate("constant", kbps=8000)))
        found = self.cost(rig, "webcam-1")
        self.assertEqual(found.basis, estimate.ARITHMETIC)
        self.assertLess(abs(found.kbps / 8000 - 1), 0.005)
        usual, low, high = found.bytes_in(60)
        self.assertTrue(low < usual < high < 1.03 * low)
        self.assertAlmostEqual(found.bits_per_pixel, 8e6 / (1920 * 1080 * 30), 3)

    def test_a_ceiling_bounds_what_a_picture_takes(self):
        rig = with_tracks(webcams=replace(RIG.format.webcams, rate=Rate("ceiling", 10, 3000)))
        found = self.cost(rig, "webcam-1")
        self.assertLess(found.high_kbps, 3100)
        self.assertEqual(found.basis, estimate.ARITHMETIC)

    def test_a_trial_is_believed_more_than_the_table_and_between_its_points(self):
        mode = RIG.input("display-1").used_mode
        points = [Measured(mode, crf, "superfast", kbps) for crf, kbps in ((14, 900), (22, 400))]
        found = self.cost(RIG, "display-1", {"display-1": points})
        self.assertEqual(found.basis, estimate.TRIAL)
        self.assertTrue(400 < found.kbps < 900)
        self.assertLessEqual(found.high_kbps, 3 * found.low_kbps)
        table = self.cost(RIG, "display-1")
        self.assertGreater(table.high_kbps / table.low_kbps, 3)

    @given(st.integers(1, 44), st.sampled_from(["display-1", "webcam-1"]))
    def test_better_quality_never_costs_less(self, crf, name):
        def kbps(value):
            rate = Rate("quality", value)
            parts = {n: replace(getattr(RIG.format, n), rate=rate) for n in ("screens", "webcams")}
            return self.cost(with_tracks(**parts), name).kbps

        self.assertGreaterEqual(kbps(crf), kbps(crf + 1))

    def test_pcm_is_arithmetic_and_all_together_is_the_sum(self):
        rig = with_tracks(files=replace(RIG.format.files, sound_codec="pcm24"))
        self.assertAlmostEqual(self.cost(rig, "system").kbps / (48 * 2 * 24), 1, 1)
        costs = track_costs(rig, {})
        self.assertAlmostEqual(together(costs).kbps, sum(c.kbps for c in costs), 6)
        self.assertEqual([c.id for c in costs], ["display-1", "webcam-1", "headset", "system"])

    def test_a_program_in_a_smaller_frame_costs_less(self):
        small = with_format(RIG, Format(640, 360))
        self.assertLess(program_cost(small, {}).kbps, program_cost(RIG, {}).kbps)
