"""An MP4 that was written in fragments is the one that would have been written at once."""

import os
import unittest
from fractions import Fraction
from unittest import mock

import av
import numpy as np

from kettle_media.program.fragments import (
    IN_FRAGMENTS,
    STEP_BYTES,
    WHOLE,
    fragments_beside,
    put_together,
)
from tests.fixtures import ROOT
from tests.small_disk import small_disk

FPS = Fraction(30000, 1001)
SIZE = (320, 180)


def write(path, options, frames):
    """Noise, with frames that wait for later ones, and a hum; 25 kB a frame."""
    noise = np.random.default_rng(3)
    with av.open(str(path), "w", format="mp4", options=options) as container:
        video = container.add_stream(
            "libx264", rate=FPS, options={"preset": "ultrafast", "qp": "8"}
        )
        video.width, video.height, video.pix_fmt, video.gop_size = *SIZE, "yuv420p", 15
        video.max_b_frames = 2
        audio = container.add_stream("aac", rate=48000, layout="stereo")
        for n in range(frames):
            plane = noise.integers(0, 256, (SIZE[1] * 3 // 2, SIZE[0]), np.uint8)
            frame = av.VideoFrame.from_ndarray(plane, format="yuv420p")
            frame.pts, frame.time_base = n, 1 / FPS
            container.mux(video.encode(frame))
            first, end = (round(k * 48000 / FPS) for k in (n, n + 1))
            hum = np.sin(np.arange(first, end, dtype=np.float32) / 40)
            sound = av.AudioFrame.from_ndarray(np.stack([hum, hum]), format="fltp", layout="stereo")
            sound.sample_rate, sound.pts = 48000, first
            container.mux(audio.encode(sound))
        container.mux(video.encode(None))
        container.mux(audio.encode(None))


def packets(path):
    """Of each stream all packets with their times."""
    found = {}
    with av.open(str(path)) as container:
        for packet in container.demux():
            if packet.size:
                times = (packet.pts, packet.dts, packet.time_base, packet.is_keyframe)
                found.setdefault(packet.stream.type, []).append((*times, bytes(packet)))
    return found


def boxes(path):
    """The kinds of a file's outermost boxes."""
    found, at, data = [], 0, path.read_bytes()
    while at < len(data):
        found.append(data[at + 4 : at + 8].decode())
        at += int.from_bytes(data[at : at + 4], "big")
    return found


class Fragments(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.room = ROOT / "fragments"
        cls.room.mkdir(exist_ok=True)
        cls.whole = cls.room / "whole.mp4"
        write(cls.whole, WHOLE, 600)

    def fragments_on(self, disk):
        made = fragments_beside(disk / ".talk.part.mp4")
        write(made, IN_FRAGMENTS, 600)
        self.assertIn("moof", boxes(made))
        return made

    def test_every_packet_is_there_at_its_time_and_the_index_stands_first(self):
        target, calls = self.room / "target.mp4", mock.Mock()
        count = put_together(self.fragments_on(self.room), target, meanwhile=calls)
        self.assertEqual(packets(target), packets(self.whole))
        self.assertEqual(count, sum(map(len, packets(target).values())))
        self.assertEqual([b for b in boxes(target) if b != "free"], ["ftyp", "moov", "mdat"])
        self.assertGreaterEqual(calls.call_count, 2)

    def test_a_disk_with_little_room_holds_it_as_fragments_go_while_it_grows(self):
        size = self.whole.stat().st_size
        self.assertGreater(size, 3 * STEP_BYTES)
        disk = ROOT / "small-fragments"
        with small_disk(disk, -(-(size + 3 * STEP_BYTES) // 10**6)):
            made, target = self.fragments_on(disk), disk / ".talk.part.mp4"
            free = os.statvfs(disk)
            self.assertLess(free.f_bavail * free.f_frsize, size)
            put_together(made, target)
            self.assertEqual(packets(target), packets(self.whole))
