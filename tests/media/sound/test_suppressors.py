"""The two engines of noise suppression behind our interface, on a voice in noise."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from kettle_core.errors import SoundError
from kettle_core.sound.stage import RATE_HZ, run_through
from kettle_core.sound.suppression import ENGINES, NoiseSuppression
from kettle_media.sound.suppressors import voice_keeper
from kettle_studio.sounds import sound_of, voice
from tests.core.sound.signals import noise, si_sdr_db

SECONDS = 4
VOICE = 0.5 * sound_of(voice())[:, 2 * RATE_HZ : (2 + SECONDS) * RATE_HZ]
NOISY = VOICE + noise(3, SECONDS, 0.02)


def suppressed(engine, strength, sound=NOISY):
    stage = NoiseSuppression(lambda: voice_keeper(engine), sound.shape[0], strength)
    return run_through(stage, sound)


class Engines(unittest.TestCase):
    def test_noise_goes_and_the_voice_stays_where_it_was(self):
        for engine in ENGINES:
            out = suppressed(engine, 1.0)
            self.assertEqual(out.shape, VOICE.shape)
            self.assertGreater(si_sdr_db(out, VOICE), si_sdr_db(NOISY, VOICE) + 5, engine)
            fits = [si_sdr_db(np.roll(out, n), VOICE) for n in range(-3, 4)]
            self.assertEqual(int(np.argmax(fits)), 3, engine)

    def test_half_strength_lies_between_and_in_step(self):
        for engine in ENGINES:
            half = suppressed(engine, 0.5)
            between = (NOISY + suppressed(engine, 1.0)) / 2
            np.testing.assert_allclose(half, between, atol=1e-5)

    @settings(max_examples=2)
    @given(st.lists(st.integers(1, 60_000), max_size=5))
    def test_block_sizes_change_nothing(self, sizes):
        for engine in ENGINES:
            stage = NoiseSuppression(lambda engine=engine: voice_keeper(engine), 1, 1.0)
            at, parts = 0, []
            for size in [*sizes, NOISY.shape[1]]:
                parts.append(stage.process(NOISY[:, at : at + size]))
                at += size
            joined = np.concatenate([*parts, stage.flush()], axis=1)
            np.testing.assert_array_equal(joined, suppressed(engine, 1.0))

    def test_nothing_a_sample_and_silence_come_out_as_such(self):
        for engine in ENGINES:
            for count in (0, 1, 479, 5000):
                out = suppressed(engine, 1.0, np.zeros((2, count), np.float32))
                self.assertEqual(out.shape, (2, count))
                self.assertEqual(np.abs(out).max(initial=0), 0)
        with self.assertRaisesRegex(SoundError, "“thorough” or “light”"):
            voice_keeper("magic")
