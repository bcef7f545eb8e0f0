import unittest

import numpy as np
import soxr
from hypothesis import given, settings
from hypothesis import strategies as st

from kettle_core.errors import SoundError
from kettle_core.sound.offset import find_offset
from kettle_core.sound.shared import find_shared_voice
from kettle_studio.sounds import far_sound, headset_sound, lesson_sounds
from tests.core.sound.signals import RATE_HZ, noise

SECONDS = 50


def recorded(start_s, drift_ppm, seed, snr_db):
    """The lesson's voice from a moment on, by a clock that runs off, in noise; (N,)."""
    voice = lesson_sounds().voice
    stretch = voice[: (SECONDS + 13) * RATE_HZ]
    other = soxr.resample(stretch, RATE_HZ, RATE_HZ * (1 + drift_ppm * 1e-6))
    first = round(start_s * RATE_HZ)
    part = other[first : first + SECONDS * RATE_HZ]
    rms = float(part.std()) * 10 ** (-snr_db / 20)
    return part + noise(seed, part.size / RATE_HZ, rms)[0][: part.size]


class Offsets(unittest.TestCase):
    @settings(max_examples=6, deadline=None)
    @given(st.floats(-9.5, 9.5), st.floats(-300, 300), st.integers(0, 9), st.floats(0, 20))
    def test_offset_and_drift_are_found(self, offset_s, drift_ppm, seed, snr_db):
        ours_s, theirs_s = (max(offset_s, 0), max(-offset_s, 0))
        ours = recorded(ours_s, 0, seed, snr_db)
        theirs = recorded(theirs_s, drift_ppm, seed + 20, snr_db)
        found = find_offset(ours, theirs, RATE_HZ)
        start_s = round(ours_s * RATE_HZ) / RATE_HZ
        true_ms = (start_s * (1 + drift_ppm * 1e-6) - round(theirs_s * RATE_HZ) / RATE_HZ) * 1000
        self.assertAlmostEqual(found.offset_ms, true_ms, delta=0.2)
        self.assertAlmostEqual(found.drift_ppm, drift_ppm, delta=6)
        self.assertGreater(found.confidence, 0.5)

    def test_what_is_not_common_is_not_found(self):
        lesson = lesson_sounds()
        voice, music = lesson.voice[: 30 * RATE_HZ], lesson.music.mean(axis=0)[: 30 * RATE_HZ]
        self.assertIsNone(find_offset(voice, music, RATE_HZ))
        self.assertIsNone(find_offset(noise(1, 20, 0.1)[0], noise(2, 20, 0.1)[0], RATE_HZ))
        self.assertIsNone(find_offset(voice * 0, voice * 0, RATE_HZ))
        with self.assertRaisesRegex(SoundError, "at least 0.5 s"):
            find_offset(voice[:100], music, RATE_HZ)

    def test_one_voice_in_two_inputs_is_told_with_its_lag(self):
        near, far = headset_sound()[:, : 8 * RATE_HZ], far_sound(3, 1, 0.5, 4000)[:, : 8 * RATE_HZ]
        far = far + noise(1, 8, 0.002)
        shared = find_shared_voice(near, far)
        self.assertAlmostEqual(shared.lag_ms, 4.2, delta=0.3)
        self.assertLess(shared.level_db, 0)
        music = lesson_sounds().music[:, : 8 * RATE_HZ]
        for other in (music, np.roll(far, RATE_HZ // 5, axis=1), far * 0.001, far[:, :100]):
            self.assertIsNone(find_shared_voice(near, other))

    def test_a_second_is_enough_for_an_offset(self):
        voice = lesson_sounds().voice[3 * RATE_HZ :]
        found = find_offset(voice[:RATE_HZ], np.pad(voice, (960, 0))[:RATE_HZ], RATE_HZ)
        self.assertAlmostEqual(found.offset_ms, 20.0, delta=0.05)
