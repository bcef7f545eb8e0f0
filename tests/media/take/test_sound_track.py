"""Sounds along a clock's map: a wandering clock's tone comes out even, gaps and all."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from kettle_core.rig.devices import Mode
from kettle_core.timing.clock_map import ClockMap, Piece
from kettle_media.take.sound_track import ANCHOR_SAMPLES, MASTER_HZ, RawTrack, SoundTrack
from kettle_media.take.track_index import track_index
from kettle_media.take.tracks import SoundWriter
from tests.fixtures import ROOT

TONE_HZ = 1000.0


class Heard:
    """Samples as a device gave them."""

    def __init__(self, samples):
        self.samples, self.read_samples = samples, 0

    def read(self, first, count):
        self.read_samples += count
        made = np.zeros((1, count), np.float32)
        kept = self.samples[max(0, first) : max(0, first + count)]
        made[0, max(0, -first) : max(0, -first) + kept.size] = kept
        return made


def sound(clock, heard, first_ns=0, rate_hz=48_000, origin_ns=0.0):
    mode = Mode(sample_rate_hz=rate_hz, channels=1)
    return SoundTrack(Heard(heard), mode, clock, first_ns, origin_ns)


def tone_of(clock, seconds, rate_hz=48_000):
    """A tone of true 1 kHz as a device with that clock records it."""
    track = (np.arange(seconds * rate_hz) * 1e9 / rate_hz).astype(np.int64)
    return np.sin(2 * np.pi * TONE_HZ * clock.to_master_ns(track) / 1e9).astype(np.float32)


def phase_us(heard, from_s, to_s):
    """How late a stretch of the tone is, in µs."""
    t = np.arange(round(from_s * MASTER_HZ), round(to_s * MASTER_HZ))
    found = np.sum(heard[t] * np.exp(-2j * np.pi * TONE_HZ * t / MASTER_HZ))
    return -(np.angle(found) + np.pi / 2) / (2 * np.pi * TONE_HZ) * 1e6


def pieces(*parts):
    """A continuous clock of (from s, ppm)."""
    found, master_ns = [], 0.0
    for n, (at_s, ppm) in enumerate(parts):
        if n:
            before = found[-1]
            master_ns = before.master_ns + (at_s * 1e9 - before.start_ns) * before.slope
        found.append(Piece(round(at_s * 1e9), master_ns, ppm, 0))
    return ClockMap(tuple(found), 0.0)


class Files(unittest.TestCase):
    """What lies in a track's file, from any sample on."""

    noise = (0.2 * np.random.default_rng(5).standard_normal((2, 6 * 44_100))).astype(np.float32)

    @classmethod
    def setUpClass(cls):
        cls.path = ROOT / "any-sample.mkv"
        writer = SoundWriter(cls.path, Mode(sample_rate_hz=44_100, channels=2))
        for at in range(0, cls.noise.shape[1], 441):
            writer.write(cls.noise[:, at : at + 441], at * 10**9 // 44_100)
        writer.close()

    def opened(self, path):
        raw = RawTrack(path, 2)
        self.addCleanup(raw.close)
        return raw

    @given(st.integers(-50_000, 6 * 44_100 + 50_000), st.integers(0, 30_000))
    def test_any_samples_are_those_that_were_recorded_and_silence_around_them(self, first, count):
        found = self.opened(self.path).read(first, count)
        padded = np.pad(self.noise, ((0, 0), (50_000, 80_001)))
        wanted = padded[:, first + 50_000 : first + 50_000 + count]
        np.testing.assert_allclose(found, wanted, atol=2e-7)

    def test_damaged_packets_are_silent_and_shift_nothing(self):
        path = ROOT / "any-sample-damaged.mkv"
        packets = track_index(self.path).packets
        data = bytearray(self.path.read_bytes())
        for row in packets[[4, 5, 30]]:
            data[row["offset"] : row["offset"] + row["size"]] = bytes(int(row["size"]))
        path.write_bytes(data)
        raw = self.opened(path)
        whole = raw.read(0, self.noise.shape[1])
        lost = np.zeros(self.noise.shape[1], bool)
        for row in packets[[4, 5, 30]]:
            lost[row["first"] : row["first"] + row["samples"]] = True
        self.assertEqual(np.abs(whole[:, lost]).max(), 0)
        np.testing.assert_allclose(whole[:, ~lost], self.noise[:, ~lost], atol=2e-7)
        for first in (100_000, 3000, 150_000, 20_000):
            np.testing.assert_array_equal(raw.read(first, 9000), whole[:, first : first + 9000])


class Sounds(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.clock = pieces((0, 50), (7, -80), (13, 140), (19, 10))
        cls.tone = tone_of(cls.clock, 23, 44_100)
        cls.wandering = sound(cls.clock, cls.tone, rate_hz=44_100)

    def test_a_clock_in_pieces_gives_an_even_tone_without_a_step(self):
        for rate_hz in (48_000, 44_100):
            clock = pieces((0, 50), (7, -80), (13, 140), (19, 10))
            made = sound(clock, tone_of(clock, 25, rate_hz), rate_hz=rate_hz)
            heard = made.read(0, 24 * MASTER_HZ)[0]
            late = [phase_us(heard, s, s + 0.5) for s in np.arange(0.5, 23, 0.5)]
            self.assertLess(np.abs(late).max(), 0.2)
            t = np.arange(heard.size) / MASTER_HZ
            even = np.sin(2 * np.pi * TONE_HZ * (t - np.median(late) * 1e-6))
            wrong = (heard - even)[MASTER_HZ // 2 : 23 * MASTER_HZ]
            self.assertLess(np.abs(wrong).max(), 1e-3)

    def test_one_piece_is_placed_to_a_part_of_a_sample(self):
        for late_ns in (1_000_007.0, 1_009_000.0, 990_000.0):
            clock = ClockMap((Piece(0, late_ns, 0.0, 0),), 0.0)
            heard = sound(clock, tone_of(clock, 3)).read(0, MASTER_HZ)[0]
            self.assertLess(np.abs(heard[:15]).max(), 0.01)
            self.assertLess(abs(phase_us(heard, 0.2, 0.9)), 0.05)

    def test_a_segment_that_belongs_later_has_silence_before_it_and_an_earlier_one_is_cut(self):
        for jump_s in (0.3, -0.3):
            clock = ClockMap(
                (Piece(0, 0.0, 0.0, 0), Piece(5 * 10**9, (5 + jump_s) * 1e9, 0.0, 1)), 0.0
            )
            heard = sound(clock, np.full(10 * 48_000, 0.5, np.float32)).read(0, 12 * MASTER_HZ)[0]
            silent = np.flatnonzero(np.abs(heard) < 0.01) / MASTER_HZ
            ends = 10 + jump_s
            self.assertAlmostEqual(silent[silent > 8][0], ends, delta=0.002)
            between = silent[(silent > 4) & (silent < 6)]
            self.assertAlmostEqual(between.size / MASTER_HZ, max(0, jump_s), delta=0.002)

    def test_what_comes_before_the_origin_is_left_out(self):
        clock = ClockMap((Piece(0, 0.0, 0.0, 0),), 0.0)
        made = sound(clock, np.arange(48_000, dtype=np.float32) / 48_000, origin_ns=0.5e9)
        self.assertAlmostEqual(float(made.read(0, 10)[0, 5]), 0.5, delta=0.001)

    @settings(max_examples=30)
    @given(st.lists(st.integers(-MASTER_HZ, 23 * MASTER_HZ), max_size=4), st.integers(1, 90_000))
    def test_a_jump_anywhere_gives_the_same_samples_as_reading_on(self, places, count):
        whole = self.wandering.read(-MASTER_HZ, 25 * MASTER_HZ)
        jumping = sound(self.clock, self.tone, rate_hz=44_100)
        for first in places:
            at = first + MASTER_HZ
            wanted = whole[:, at : at + count]
            np.testing.assert_array_equal(jumping.read(first, wanted.shape[1]), wanted)

    def test_a_jump_reads_no_more_than_a_block(self):
        made = sound(self.clock, self.tone, rate_hz=44_100)
        made.read(21 * MASTER_HZ, 100)
        self.assertLess(made._raw.read_samples, ANCHOR_SAMPLES + 20_000)
