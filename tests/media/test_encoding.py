"""Encoder settings do what they say, on real packets."""

import tempfile
import unittest
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from kettle_core.rig.devices import Mode
from kettle_core.rig.encoder_settings import (
    PROGRAM,
    ConstantBitrate,
    ConstantQuality,
    EncoderSettings,
    program_settings,
    track_settings,
)
from kettle_core.rig.format import (
    FRAME_RATES,
    LEAST_CRF,
    LEAST_KBPS,
    MOST_CRF,
    MOST_KBPS,
    SCREEN_TRACKS,
    SPEEDS,
    WEBCAM_TRACKS,
    ProgramFormat,
    Rate,
    TrackFormat,
)
from kettle_media.encoding import Keyframes, encoder, open_encoder

SIZE, FPS = (320, 180), Fraction(30)
RNG = np.random.default_rng(9)
NOISE = [RNG.integers(16, 235, (270, 320), dtype=np.uint8) for _ in range(6)]
STILL = [np.full((270, 320), 120, np.uint8)]
SECONDS = 4


def encoded(settings, buffers, frames=SECONDS * 30):
    """Packets of some seconds of frames in turns, and how many were out after each frame."""
    context, keyframes = encoder(settings, SIZE, FPS, 1 / FPS), Keyframes(settings)
    packets, out = [], []
    for number in range(frames):
        frame = av.VideoFrame.from_numpy_buffer(buffers[number % len(buffers)], format="yuv420p")
        frame.pts, frame.time_base = number, 1 / FPS
        keyframes.mark(frame, number / FPS)
        packets += context.encode(frame)
        out.append(len(packets))
    return packets + list(context.encode(None)), out


def kbps(packets):
    return sum(p.size for p in packets) * 8 / 1000 / SECONDS


class Settings(unittest.TestCase):
    def test_a_constant_bitrate_is_kept_whatever_is_shown(self):
        settings = EncoderSettings(ConstantBitrate(1500), "veryfast", Fraction(1), 1)
        for name, buffers in (("noise", NOISE), ("still", STILL)):
            with self.subTest(name):
                packets, _ = encoded(settings, buffers, 14 * 30)
                for first in range(2 * 30, 4 * 30, 7):
                    size = sum(p.size for p in packets if first <= p.pts < first + 300)
                    # Within 2 % over any ten seconds after the first two.
                    self.assertAlmostEqual(size * 8 / 1000 / 10, 1500, delta=30)

    def test_a_ceiling_holds_noise_down_and_lets_a_still_picture_be_small(self):
        settings = EncoderSettings(ConstantQuality(18, 1000), "veryfast", Fraction(1), 1)
        packets, _ = encoded(settings, NOISE)
        sizes = np.array([p.size * 8 / 1000 for p in packets])
        for first in range(0, len(sizes), 5):
            seconds = np.arange(1, len(sizes) - first + 1) / 30
            # In any t seconds at most the ceiling and a second's worth more.
            self.assertTrue(np.all(np.cumsum(sizes[first:]) <= 1000 * (seconds + 1)))
        self.assertGreater(
            kbps(encoded(replace(settings, rate=ConstantQuality(18)), NOISE)[0]), 3000
        )
        self.assertLess(kbps(encoded(settings, STILL)[0]), 50)

    @given(
        st.sampled_from(["quality", "ceiling", "constant"]),
        st.integers(LEAST_CRF, MOST_CRF),
        st.one_of(st.just(0), st.integers(LEAST_KBPS, MOST_KBPS)),
        st.sampled_from(SPEEDS),
        st.sampled_from(FRAME_RATES),
        st.sampled_from([(16, 16), (64, 4320), (1920, 1080), (1080, 1920), (7680, 4320)]),
    )
    @settings(max_examples=25, deadline=None)
    def test_every_format_that_is_let_through_can_be_opened(self, kind, crf, kbps, speed, fps, of):
        mode = Mode(*of, Fraction(fps))
        track = TrackFormat(Rate(kind, crf, kbps), speed)
        program = ProgramFormat(Rate(kind, crf, kbps), speed)
        for made in (track_settings(mode, track), program_settings(program, mode)):
            # One that can't be opened raises here.
            encoder(replace(made, threads=1), of, mode.fps, 1 / mode.fps)

    def test_keyframes_come_with_the_first_frame_of_each_stretch_of_time(self):
        for every_s in (Fraction(1), Fraction(1, 2), Fraction(2)):
            settings = replace(PROGRAM, keyframe_s=every_s, threads=1)
            packets, _ = encoded(settings, STILL)
            keys = sorted(p.pts for p in packets if p.is_keyframe)
            self.assertEqual(keys, list(range(0, SECONDS * 30, int(30 * every_s))))

    def test_what_is_recorded_waits_for_nothing_in_the_encoder(self):
        for track in (SCREEN_TRACKS, WEBCAM_TRACKS):
            settings = track_settings(Mode(*SIZE, FPS), track)
            _, out = encoded(settings, NOISE, 20)
            self.assertEqual(out, list(range(1, 21)))

    def test_a_large_mode_gets_two_threads_unless_the_bits_must_repeat(self):
        small, large = Mode(1280, 720, Fraction(30)), Mode(1920, 1080, Fraction(60))
        self.assertEqual(track_settings(small, SCREEN_TRACKS).threads, 1)
        self.assertEqual(track_settings(large, SCREEN_TRACKS).threads, 2)
        self.assertEqual(track_settings(large, SCREEN_TRACKS, repeatable=True).threads, 1)
        ceilings = [track_settings(m, WEBCAM_TRACKS).rate.ceiling_kbps for m in (small, large)]
        self.assertEqual(ceilings[0], 6000)
        self.assertLess(ceilings[0] * 3, ceilings[1])

    def test_packets_of_one_encoder_can_follow_those_of_another(self):
        settings = replace(PROGRAM, threads=1)
        bright = [np.full((270, 320), 200, np.uint8)]
        with tempfile.TemporaryDirectory() as room:
            path = Path(room) / "joined.mp4"
            with av.open(str(path), "w") as container:
                stream = open_encoder(container, settings, SIZE, FPS, 1 / FPS)
                container.start_encoding()
                number = 0
                for part, buffers in enumerate((STILL, bright, NOISE)):
                    for packet in encoded(settings, buffers, 30)[0]:
                        packet.stream, packet.time_base = stream, 1 / FPS
                        packet.pts += 30 * part
                        packet.dts = number - 2
                        number += 1
                        container.mux(packet)
            with av.open(str(path)) as container:
                frames = [f.to_ndarray()[:180] for f in container.decode(video=0)]
        self.assertEqual(len(frames), 90)
        for number, light in ((0, 120), (29, 120), (30, 200), (59, 200)):
            self.assertAlmostEqual(float(frames[number].mean()), light, delta=2)
        self.assertGreater(frames[60].std(), 20)

    def test_what_was_encoded_says_what_its_colours_are(self):
        context = encoder(PROGRAM, SIZE, FPS, 1 / FPS)
        self.assertEqual(
            (context.color_primaries, context.color_trc, context.colorspace), (1, 1, 1)
        )
        self.assertEqual(context.color_range, 1)
