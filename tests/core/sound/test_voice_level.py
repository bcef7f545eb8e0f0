import unittest

import numpy as np

from kettle_core.sound.levels import db_to_ratio
from kettle_core.sound.shaping import with_gain
from kettle_core.sound.voice_level import GAIN_LIMITS_DB, measure_voice, propose_gain_db
from kettle_core.sound.watch import SoundWatch

RATE_HZ = 48_000


def speech(level_dbfs, seconds=10.0, noise_dbfs=-65.0):
    """Bursts of a tone with pauses, over noise, as (1, samples) float32; RMS in the bursts."""
    t = np.arange(round(seconds * RATE_HZ)) / RATE_HZ
    tone = np.sin(2 * np.pi * 220 * t) * np.sqrt(2) * db_to_ratio(level_dbfs)
    noise = np.random.default_rng(1).standard_normal(t.size) * db_to_ratio(noise_dbfs)
    return (tone * (t % 1 < 0.6) + noise).astype(np.float32)[None]


class Voice(unittest.TestCase):
    def test_the_level_of_a_voice_and_of_the_pauses_is_found(self):
        level = measure_voice(speech(-30.0))
        self.assertAlmostEqual(level.voice_dbfs, -30.0, delta=0.3)
        self.assertAlmostEqual(level.floor_dbfs, -65.0, delta=1.0)
        self.assertAlmostEqual(level.peak_dbfs, -27.0, delta=0.6)
        self.assertAlmostEqual(level.voice_s, 6.0, delta=0.6)

    def test_the_proposed_gain_brings_the_voice_to_its_target_without_clipping(self):
        for before_dbfs in (-42.0, -30.0, -20.0, -6.0):
            sound = speech(before_dbfs)
            gain_db = propose_gain_db(measure_voice(sound))
            after = measure_voice(with_gain(sound, gain_db))
            self.assertAlmostEqual(after.voice_dbfs, -15.0, delta=0.8)
            self.assertLess(after.peak_dbfs, -2.9)
            self.assertEqual(after.clipped_samples, 0)

    def test_a_single_loud_knock_holds_the_gain_back(self):
        sound = speech(-30.0)
        sound[0, 5000] = 0.6
        self.assertLessEqual(propose_gain_db(measure_voice(sound)), 1.5)

    def test_silence_and_a_second_of_speech_are_too_little_to_tell(self):
        self.assertIsNone(propose_gain_db(measure_voice(np.zeros((2, 0), np.float32))))
        self.assertIsNone(propose_gain_db(measure_voice(speech(-30, 1.0))))
        far = propose_gain_db(measure_voice(speech(-47, noise_dbfs=-95)))
        self.assertEqual(far, GAIN_LIMITS_DB[1])


class States(unittest.TestCase):
    def test_an_input_hears_is_quiet_clips_and_is_dead(self):
        watch = SoundWatch()
        self.assertEqual(watch.state().word, "quiet")
        watch.take(-20.0, clipped=False, elapsed_s=0.05)
        self.assertEqual(watch.state().sentence, "hears you")
        watch.take(-0.0, clipped=True, elapsed_s=0.05)
        self.assertEqual(watch.state().word, "clipping")
        for _ in range(50):
            watch.take(-62.0, clipped=False, elapsed_s=0.05)
        self.assertEqual(watch.state().word, "quiet")
        for _ in range(121):
            watch.take(-120.0, clipped=False, elapsed_s=0.05)
        self.assertEqual(watch.state().sentence, "nothing for 6 s")
        watch.take(-30.0, clipped=False, elapsed_s=0.05)
        self.assertEqual(watch.state().word, "hears")
