"""H.264 in both of its forms, on what an encoder really gives."""

import tempfile
import unittest
from fractions import Fraction
from pathlib import Path

import av
import numpy as np

from kettle_core.rig.encoder_settings import PROGRAM
from kettle_media.encoding import encoder, open_encoder
from kettle_media.program.h264 import headers_of, with_start_codes

FPS = Fraction(25)


class Forms(unittest.TestCase):
    def test_an_mp4_has_the_headers_and_units_that_its_encoder_gave(self):
        rng = np.random.default_rng(4)
        with tempfile.TemporaryDirectory() as room:
            path = Path(room) / "forms.mp4"
            given = []
            with av.open(str(path), "w") as container:
                stream = open_encoder(container, PROGRAM, (64, 48), FPS, 1 / FPS)
                container.start_encoding()
                extradata = bytes(stream.codec_context.extradata)
                for number in range(12):
                    buffer = rng.integers(16, 235, (72, 64), dtype=np.uint8)
                    frame = av.VideoFrame.from_numpy_buffer(buffer, format="yuv420p")
                    frame.pts, frame.time_base = number, 1 / FPS
                    for packet in stream.encode(frame):
                        given.append(bytes(packet))
                        container.mux(packet)
                for packet in stream.encode(None):
                    given.append(bytes(packet))
                    container.mux(packet)
            with av.open(str(path)) as container:
                there = bytes(container.streams.video[0].codec_context.extradata)
                found = [with_start_codes(bytes(p)) for p in container.demux(video=0) if p.size]
        self.assertEqual(there[0], 1)
        self.assertEqual(headers_of(there), headers_of(extradata))
        self.assertEqual(len(headers_of(there)), 2)
        short = [f.replace(b"\0\0\0\1", b"\0\0\1") for f in found]
        self.assertEqual(short, [g.replace(b"\0\0\0\1", b"\0\0\1") for g in given])

    def test_other_sizes_have_other_headers(self):
        sizes = ((64, 48), (64, 64))
        one, two = (headers_of(encoder(PROGRAM, s, FPS, 1 / FPS).extradata) for s in sizes)
        self.assertNotEqual(one, two)
