import unittest

import numpy as np
import soxr
from hypothesis import given, settings
from hypothesis import strategies as st

from kettle_core.errors import SoundError
from kettle_core.sound.offset import find_offset
from kettle_core.sound.shared import find_shared_voice
from kettle_studio import sounds
from kettle_studio.sounds import sound_of
from tests.core.sound.signals import RATE_HZ, noise

SECONDS = 50


def recorded(start_s, drift_ppm, seed, snr_db):
    """The lesson's voice from a moment on, by a clock that runs off, in noise; (N,)."""
    voice = sound_of(sounds.voice())[0]
    stretch = voice[: (SECONDS + 13) * RATE_HZ]
    other = soxr.resample(stretch, RATE_HZ, RATE_HZ * (1 + drift_ppm * 1e-6))
    first = round(start_s * RATE_HZ)
    part = other[first : first + SECONDS * RATE_HZ]
    rms = float(part.std()) * 10 ** (-snr_db / 20)
    return part + noise(seed, part.size / RATE_HZ, rms)[0][: part.size]


class Offsets(unittest.TestCase):
    @settings(max_examples=6)
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
        voice = sound_of(sounds.voice())[0, : 30 * RATE_HZ]
        music = sound_of(sounds.music()).mean(axis=0)[: 30 * RATE_HZ]
        self.assertIsNone(find_offset(voice, music, RATE_HZ))
        self.assertIsNone(find_offset(noise(1, 20, 0.1)[0], noise(2, 20, 0.1)[0], RATE_HZ))
        self.assertIsNone(find_offset(voice * 0, voice * 0, RATE_HZ))
        with self.assertRaisesRegex(SoundError, "at least 0.5 s"):
            find_offset(voice[:100], music, RATE_HZ)

    def test_a_room_far_off_and_late_is_found_also_where_a_phrase_recurs(self):
        voice = sound_of(sounds.voice())[0]
        room = sound_of(sounds.far(3, 1, 0.6, 5000))[0]
        phrase = slice(20 * RATE_HZ, 22 * RATE_HZ)
        for recurs in (False, True):
            near, far = (np.r_[x, x][: 60 * RATE_HZ].copy() for x in (voice, room))
            for at in range(1, 58, 7) if recurs else ():
                for sound, source in ((near, voice), (far, room)):
                    sound[at * RATE_HZ : (at + 2) * RATE_HZ] = source[phrase]
            far = np.r_[np.zeros(4 * RATE_HZ, np.float32), far]
            far = soxr.resample(far, RATE_HZ, RATE_HZ * (1 - 140e-6))[: near.size]
            far = far + noise(6, 61, float(far.std()) * 10 ** (-10 / 20))[0][: far.size]
            found = find_offset(near, far, RATE_HZ)
            self.assertAlmostEqual(found.offset_ms, 4003.4, delta=1.0)
            self.assertAlmostEqual(found.drift_ppm, -140, delta=6)

    def test_one_voice_in_two_inputs_is_told_with_its_lag(self):
        near = sound_of(sounds.headset())[:, : 8 * RATE_HZ]
        far = sound_of(sounds.far(3, 1, 0.5, 4000))[:, : 8 * RATE_HZ]
        far = far + noise(1, 8, 0.002)
        shared = find_shared_voice(near, far)
        self.assertAlmostEqual(shared.lag_ms, 4.2, delta=0.3)
        self.assertLess(shared.level_db, 0)
        music = sound_of(sounds.music())[:, : 8 * RATE_HZ]
        for other in (music, np.roll(far, RATE_HZ // 5, axis=1), far * 0.001, far[:, :100]):
            self.assertIsNone(find_shared_voice(near, other))

    def test_a_second_is_enough_for_an_offset(self):
        voice = sound_of(sounds.voice())[0][3 * RATE_HZ :]
        found = find_offset(voice[:RATE_HZ], np.pad(voice, (960, 0))[:RATE_HZ], RATE_HZ)
        self.assertAlmostEqual(found.offset_ms, 20.0, delta=0.05)
