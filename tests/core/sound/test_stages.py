import functools
import unittest

import numpy as np
import soxr
from hypothesis import given, settings
from hypothesis import strategies as st

from kettle_core.errors import SoundError
from kettle_core.sound.auto_gain import AutoGain
from kettle_core.sound.background import Ducker, Ducking
from kettle_core.sound.echo import EchoReduction
from kettle_core.sound.hum import HumFilter, find_hum
from kettle_core.sound.levels import db_to_ratio
from kettle_core.sound.limiter import Limiter
from kettle_core.sound.low_cut import LowCut
from kettle_core.sound.shaping import Delay
from kettle_core.sound.stage import Chain, EachSample, run_through
from kettle_core.sound.suppression import NoiseSuppression
from kettle_core.sound.tone import Tone, tone_chain
from tests.core.sound.signals import RATE_HZ, hum, noise, si_sdr_db, sine, swelling_noise, words


class Half:
    """An engine that is 700 samples late, keeps half of everything, and takes its delay out."""

    def __init__(self):
        self.waiting, self.missing = np.zeros(0, np.float32), 0

    def process(self, samples):
        joined = np.concatenate([self.waiting, samples])
        ready = max(0, joined.size - 700)
        self.waiting = joined[ready:]
        return joined[:ready] / 2

    def flush(self):
        return self.waiting / 2


SOUND = (
    words(1.5) + hum(50, 1.5, 0.05) + noise(1, 1.5, 0.01) + sine(30, 1.5, 0.2, 1)
).astype(np.float32)  # fmt: skip
MUSIC = sine(440, 1.5, 0.3)
STAGES = {
    "delay": lambda: Delay(1, 7.313),
    "earlier": lambda: Delay(1, -20.07),
    "suppression": lambda: NoiseSuppression(Half, 1, 0.7),
    "hum": lambda: HumFilter(1, heard=np.tile(SOUND, 4)),
    "hum to be found": lambda: HumFilter(1),
    "low cut": lambda: LowCut(1),
    "echo": lambda: EchoReduction(1, 0.8),
    "automatic gain": lambda: AutoGain(1),
    "limiter": lambda: Limiter(1, -12.0),
    "chain": lambda: Chain([Delay(1, 1.5), LowCut(1), Limiter(1, -10.0)]),
}


def in_blocks(sound, sizes):
    at = 0
    for size in [*sizes, sound.shape[1]]:
        yield slice(at, at + size)
        at += size


@functools.cache
def whole_of(name):
    """What a stage makes of the sound at once."""
    return run_through(STAGES[name](), SOUND)


class BlockSizes(unittest.TestCase):
    @settings(max_examples=12)
    @given(st.lists(st.integers(0, 20_000), max_size=7))
    def test_every_stage_gives_the_same_samples_at_the_same_length(self, sizes):
        for name, make in STAGES.items():
            whole, stage = whole_of(name), make()
            parts = [stage.process(SOUND[:, part]) for part in in_blocks(SOUND, sizes)]
            joined = np.concatenate([*parts, stage.flush()], axis=1)
            self.assertEqual(whole.shape, SOUND.shape, name)
            np.testing.assert_array_equal(joined, whole, name)

    @settings(max_examples=12)
    @given(st.lists(st.integers(0, 20_000), max_size=7))
    def test_ducking_does_too(self, sizes):
        def ducked(parts):
            ducker = Ducker(2, Ducking(on=True))
            out = [ducker.process(SOUND[:, p], MUSIC[:, p]) for p in parts]
            return np.concatenate([*out, ducker.flush()], axis=1)

        once = ducked(in_blocks(SOUND, []))
        self.assertEqual(once.shape, MUSIC.shape)
        np.testing.assert_array_equal(ducked(in_blocks(SOUND, sizes)), once)


class Delays(unittest.TestCase):
    def test_a_fraction_of_a_sample_is_exact(self):
        for delay_ms in (0.0, 0.004, -0.01, 3.377, -12.345, 250.3):
            late = run_through(Delay(1, delay_ms), sine(3000, 1, 0.5, 1))
            turn = -2 * np.pi * 3000 * delay_ms / 1000
            wanted = sine(3000, 1, 0.5, 1, phase=turn)
            np.testing.assert_allclose(late[0, 15_000:-800], wanted[0, 15_000:-800], atol=2e-5)


class Suppressing(unittest.TestCase):
    def test_wet_and_dry_stay_in_step_at_every_strength(self):
        for strength in (0.0, 0.3, 1.0):
            out = run_through(NoiseSuppression(Half, 1, strength), SOUND)
            np.testing.assert_allclose(out, SOUND * (1 - strength / 2), atol=1e-6)
        with self.assertRaisesRegex(SoundError, "0 to 100 %, got 130%"):
            NoiseSuppression(Half, 1, 1.3)


class Hums(unittest.TestCase):
    def test_the_frequency_is_found_to_a_hundredth_in_speech_and_noise(self):
        for frequency_hz in (49.87, 50.0, 50.06, 59.95, 60.02):
            sound = words(12) + noise(2, 12, 0.003) + hum(frequency_hz, 12, 0.01)
            found = find_hum(sound)
            self.assertAlmostEqual(found.frequency_hz, frequency_hz, delta=0.01)
            self.assertGreater(found.sure, 0.35)
            self.assertAlmostEqual(found.level_dbfs, -40, delta=1.5)

    def test_it_is_rightly_not_found(self):
        low_g = sum(sine(48.9994 * n, 10, 0.1 / n, 1) for n in range(1, 9))
        for sound in (
            words(10),
            noise(3, 10, 0.05),
            noise(3, 10, 0.001) + sine(100, 10, 0.1, 1),
            noise(4, 10, 0.001) + low_g,
            np.zeros((1, 480_000), np.float32),
            hum(50, 1, 0.1),
        ):
            self.assertIsNone(find_hum(sound))

    def test_one_line_is_enough_where_its_frequency_is_named(self):
        voice = words(14)
        level = float(np.sqrt(np.mean(voice**2)))
        for frequency_hz, mains_hz in ((50.0, 50), (49.9, 50), (100.0, 50), (60.05, 60)):
            with self.subTest(frequency_hz=frequency_hz):
                line = sine(frequency_hz, 14, 2**0.5 * level * 10 ** (-5 / 20), 1)
                sound = voice + line + noise(3, 14, 0.0008)
                self.assertIsNone(find_hum(sound, 110 - mains_hz))
                out = run_through(HumFilter(1, mains_hz), sound)
                at_s = np.arange(8 * RATE_HZ, 14 * RATE_HZ) / RATE_HZ
                turns = np.exp(-2j * np.pi * frequency_hz * at_s)
                was, left = (abs(np.mean(x[0, 8 * RATE_HZ :] * turns)) for x in (line, out))
                self.assertGreater(20 * np.log10(was / left), 25)

    def test_where_nothing_hums_nothing_is_lost(self):
        bass = sum(sine(49.0 * n, 12, 0.04 / n, 1) for n in (1, 2, 3))
        bass = bass * (np.arange(bass.shape[1]) % 48_000 < 30_000)
        for number in range(2):
            voice = words(12, seed=number)
            for sound in (voice, voice + bass):
                for mains_hz in (50, 60):
                    out = run_through(HumFilter(1, mains_hz), sound)
                    lost_db = 10 * np.log10(np.mean(sound**2) / np.mean(out**2))
                    self.assertLess(abs(lost_db), 0.5)

    def test_it_is_taken_out_and_the_voice_is_whole(self):
        voice = words(12)
        sound = voice + hum(50.03, 12, 0.05) + noise(5, 12, 0.0005)
        out = run_through(HumFilter(1, heard=sound), sound)
        self.assertLess(si_sdr_db(sound, voice), 7)
        self.assertGreater(si_sdr_db(out, voice), 35)
        settled = slice(6 * RATE_HZ, None)
        looked = run_through(HumFilter(1), sound)
        self.assertGreater(si_sdr_db(looked[:, settled], voice[:, settled]), 22)

    def test_slow_changes_of_the_mains_are_followed(self):
        t = np.arange(40 * RATE_HZ) / RATE_HZ
        swinging = 50 + 0.03 * np.sin(2 * np.pi * t / 60)
        sound = words(40) + hum(swinging, 40, 0.03)
        out = run_through(HumFilter(1, heard=sound), sound)
        later = slice(10 * RATE_HZ, None)
        before = si_sdr_db(sound[:, later], words(40)[:, later])
        self.assertGreater(si_sdr_db(out[:, later], words(40)[:, later]), before + 10)


class RumbleAndEcho(unittest.TestCase):
    def test_rumble_goes_and_a_voice_keeps_its_energy(self):
        voice, rumble = words(6), sine(27, 6, 0.2, 1)
        out = run_through(LowCut(1), rumble)
        self.assertLess(out[:, RATE_HZ:].std(), rumble.std() / 30)
        kept = run_through(LowCut(1), voice)
        self.assertAlmostEqual(20 * np.log10(kept.std() / voice.std()), 0, delta=0.2)

    def test_late_reverberation_goes_down(self):
        rng = np.random.default_rng(6)
        t = np.arange(RATE_HZ) / RATE_HZ
        room = 0.02 * rng.standard_normal(t.size) * 10 ** (-3 * t / 0.6)
        room[: round(0.004 * RATE_HZ)], room[0] = 0, 1
        voice = words(8)
        size = 2 ** int(np.ceil(np.log2(voice.size + room.size)))
        wet = np.fft.irfft(np.fft.rfft(voice, size) * np.fft.rfft(room, size))
        wet = wet[:, : voice.shape[1]].astype(np.float32)
        place = np.arange(voice.shape[1]) / RATE_HZ % 1.3
        pauses = (place > 0.62) & (place < 1.29)
        whole, half = (run_through(EchoReduction(1, share), wet) for share in (1.0, 0.5))
        self.assertLess(whole[0, pauses].std(), 0.6 * wet[0, pauses].std())
        self.assertLess(half[0, pauses].std(), 0.8 * wet[0, pauses].std())
        self.assertGreater(si_sdr_db(half, voice), si_sdr_db(wet, voice) - 0.1)
        self.assertGreater(si_sdr_db(run_through(EchoReduction(1, 0), wet), wet), 80)


class Limiting(unittest.TestCase):
    def test_no_true_peak_passes_the_ceiling_and_quiet_sound_is_left_alone(self):
        for seed in range(4):
            loud = (0.2 + 0.3 * seed) * swelling_noise(seed, 1)
            sound = np.concatenate([sine(200, 0.5, 0.3, 1), loud, sine(200, 0.5, 0.3, 1)], axis=1)
            out = run_through(Limiter(1, -1.0), sound)
            slow = soxr.resample(out[0].astype(np.float64), 1, 16)
            self.assertLessEqual(np.abs(slow).max(), db_to_ratio(-1.0 + 0.1))
            np.testing.assert_array_equal(out[:, :20_000], sound[:, :20_000])
            np.testing.assert_array_equal(out[:, -20_000:], sound[:, -20_000:])


class AutomaticGain(unittest.TestCase):
    def test_a_voice_comes_to_its_target_and_pauses_hold_still(self):
        for level in (0.02, 0.1):
            gain = AutoGain(1, -20.0)
            out = run_through(gain, words(20, level))
            quiet, late = words(20, level), slice(12 * RATE_HZ, None)
            ratio = out[:, late].std() / quiet[:, late].std()
            self.assertAlmostEqual(20 * np.log10(ratio), gain.gain_db, delta=0.6)
        before = gain.gain_db
        gain.process(noise(1, 5, 0.0003))
        self.assertLess(abs(gain.gain_db - before), 0.3)
        with self.assertRaisesRegex(SoundError, "-36 to -14 LUFS"):
            AutoGain(1, -5.0)

    def test_it_never_leaves_its_range_nor_goes_faster_than_it_may(self):
        gain, before = AutoGain(1, -20.0, range_db=6, speed_db_per_s=3), 0.0
        for at in range(0, 10 * RATE_HZ, 960):
            gain.process(LOUD[:, at : at + 960])
            self.assertLessEqual(gain.gain_db - before, 0.0601)
            self.assertGreaterEqual(gain.gain_db - before, -0.1201)
            self.assertLessEqual(abs(gain.gain_db), 6.0)
            before = gain.gain_db
        self.assertAlmostEqual(before, -6.0, delta=0.1)


LOUD = words(10, 0.5)


class TheChain(unittest.TestCase):
    def test_a_plain_tone_only_places_and_a_full_one_runs_every_stage(self):
        plain = run_through(tone_chain(Tone(gain_db=6.0206), 1, lambda _: Half()), SOUND)
        np.testing.assert_allclose(plain, 2 * SOUND, rtol=1e-4)
        full = Tone(hum="auto", suppression=50, low_cut=True, echo=40, auto_gain=True, limiter=True)
        self.assertTrue(full.cleans)
        out = run_through(tone_chain(full, 1, lambda _: Half()), SOUND)
        self.assertEqual(out.shape, SOUND.shape)
        self.assertTrue(np.isfinite(out).all())
        self.assertIsInstance(EachSample(lambda x: x).flush(), np.ndarray)
