"""What is said of frames that are dropped."""

import unittest

from kettle_engine.recording.drops import BUSY, DEVICE, ENCODER, DropWatch, in_words

S = 10**9


class Drops(unittest.TestCase):
    def test_a_row_of_drops_is_told_once_with_how_many_of_how_many(self):
        watch = DropWatch()
        self.assertTrue(watch.dropped(3, BUSY, 12 * S, written=100))
        self.assertFalse(watch.dropped(5, DEVICE, 13 * S, written=130))
        self.assertIsNone(watch.over(14 * S))
        told = "Desk webcam: 8 of 38 frames dropped since 0:12, the machine is too busy"
        for whole, lighter, ending in (
            (False, "", ". Close what you don't need."),
            (
                True,
                "640 × 360 px · 60 fps",
                "; sound is whole. Close what you don't need, or record it as "
                "640 × 360 px · 60 fps.",
            ),
        ):
            sentence = in_words("Desk webcam", watch.now, True, whole, lighter)
            self.assertEqual(sentence, told + ending)
        over = watch.over(15 * S)
        self.assertEqual((over.since_ns, over.until_ns, over.frames, over.of),
                         (12 * S, 13 * S, 8, 38))  # fmt: skip
        self.assertIsNone(watch.over(16 * S))
        self.assertTrue(watch.dropped(1, ENCODER, 80 * S, written=2000))
        self.assertIn("since 1:20, the machine encodes too slowly",
                      in_words("Screen", watch.end(), True, False))  # fmt: skip
        self.assertIsNone(watch.end())

    def test_sound_has_blocks(self):
        watch = DropWatch()
        watch.dropped(2, DEVICE, S, written=10)
        sentence = in_words("Headset", watch.now, False, False, "never said")
        self.assertEqual(
            sentence, "Headset: 2 of 2 blocks of sound dropped since 0:01, the device gave fewer."
        )
