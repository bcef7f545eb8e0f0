"""Files beside the takes: openings, endings, music; what can't be played, a full disk."""

import io
import struct
import unittest
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from tempfile import TemporaryDirectory

import av
import numpy as np

from kettle_core.assembly.cut_list import CutList, Music, Piece
from kettle_core.errors import CutError, TakeError
from kettle_core.rig.format import Format
from kettle_media.assembly.added_file import file_path, take_in
from kettle_media.assembly.show import show_of_assembly
from kettle_media.program.mix import ProgramMix
from kettle_media.program.renderer import Renderer
from tests.small_disk import small_disk

S, HZ = 10**9, 48_000
SMALL = Format(320, 180)


def video(seconds=3, fps=25, size=(160, 120), late_s=0.0):
    """A file whose luma says the number of its frame; its tone begins with it, or later."""
    data = io.BytesIO()
    with av.open(data, "w", format="mp4") as out:
        picture = out.add_stream("libx264", rate=fps, options={"crf": "10", "g": "20"})
        picture.width, picture.height, picture.pix_fmt = *size, "yuv420p"
        sound = out.add_stream("aac", rate=44_100, layout="mono")
        for number in range(seconds * fps):
            plane = np.full((size[1] * 3 // 2, size[0]), 128, np.uint8)
            plane[: size[1]] = 40 + 2 * number % 200
            frame = av.VideoFrame.from_ndarray(plane, "yuv420p")
            frame.pts, frame.time_base = number, Fraction(1, fps)
            out.mux(picture.encode(frame))
        out.mux(picture.encode(None))
        lead = round(late_s * 44_100)
        at = np.arange(seconds * 44_100 - lead)
        tone = (0.5 * np.sin(2 * np.pi * 441 * at / 44_100)).astype(np.float32)
        for first in range(0, tone.size, 1024):
            frame = av.AudioFrame.from_ndarray(tone[None, first : first + 1024], "fltp", "mono")
            frame.sample_rate, frame.pts, frame.time_base = (
                44_100,
                first + lead,
                Fraction(1, 44_100),
            )
            out.mux(sound.encode(frame))
        out.mux(sound.encode(None))
    data.seek(0)
    return data


def turned(data):
    """A file whose track says that it is to be shown turned by 90° (ISO 14496-12, tkhd)."""
    whole = bytearray(data.getvalue())
    matrix = whole.index(b"tkhd") + 44
    whole[matrix : matrix + 36] = struct.pack(">9i", 0, 1 << 16, 0, -1 << 16, 0, 0, 0, 0, 1 << 30)
    return io.BytesIO(bytes(whole))


class FileCase(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(TemporaryDirectory())) / "files"

    def taken_in(self, data=None, name="opening.mp4"):
        return replace(take_in(data or video(), name, self.folder), id="file1")

    def show(self, cuts):
        show = show_of_assembly({}, cuts, SMALL, files=self.folder)
        self.addCleanup(show.close)
        return show

    def heard(self, show):
        plan = replace(show.plan, ducking=replace(show.plan.ducking, on=False))
        mix = ProgramMix(plan, show.sounds.read)
        return np.concatenate([mix.read(plan.samples), mix.flush()], axis=1)


class Openings(FileCase):
    def test_its_frames_and_its_sound_are_seen_and_heard_where_they_lie(self):
        file = self.taken_in()
        self.assertEqual((file.length_ns, file.has_picture), (3 * S, True))
        show = self.show(CutList((Piece("p1", "file1", S, 3 * S),), files=(file,)))
        self.assertEqual(show.plan.frames, 60)
        drawn = Renderer(show.plan, show.sources, show.masks)
        for number in (0, 29, 7, 59, 58, 3):
            plane = drawn.frame(number)
            # 4:3 in 16:9: black at both sides, whole in height.
            self.assertEqual(int(plane[90, 10]), 16)
            meant = 40 + 2 * int((1 + number / 30) * 25 + 1e-6)
            self.assertAlmostEqual(int(plane[90, 160]), meant, delta=2)
        sound = self.heard(show)
        spectrum = np.abs(np.fft.rfft(sound[0, HZ // 2 : HZ // 2 + HZ]))
        self.assertEqual(int(np.argmax(spectrum)), 441)

    def test_what_a_telephone_recorded_upright_is_shown_upright(self):
        file = self.taken_in(turned(video(1)))
        show = self.show(CutList((Piece("p1", "file1", 0, S),), files=(file,)))
        plane = Renderer(show.plan, show.sources, show.masks).frame(0)
        seen = np.flatnonzero(plane[90] > 20)
        # 120 × 160 in 320 × 180: 134 px wide in the middle.
        self.assertAlmostEqual(seen.size, 135, delta=3)
        self.assertAlmostEqual(float(seen.mean()), 160, delta=2)

    def test_two_of_one_name_at_once_are_both_kept(self):
        with ThreadPoolExecutor(4) as pool:
            found = list(pool.map(lambda n: self.taken_in(video(1 + n % 2)), range(4)))
        self.assertEqual(len({file.digest for file in found}), 2)
        for file in found:
            self.assertTrue(file_path(self.folder, file).exists())
        self.assertEqual(len(list(self.folder.iterdir())), 4)

    def test_sound_that_begins_later_than_the_picture_does_so_here_too(self):
        file = self.taken_in(video(late_s=0.5))
        sound = self.heard(self.show(CutList((Piece("p1", "file1", 0, 3 * S),), files=(file,))))
        begins = int(np.argmax(np.abs(sound[0]) > 0.1)) / HZ
        self.assertAlmostEqual(begins, 0.5, delta=0.03)

    def test_at_another_speed_and_between_others_nothing_clicks(self):
        file = self.taken_in()
        pieces = (
            Piece("p1", "file1", 0, S),
            Piece("p2", "file1", S, 2 * S, percent=200, sound="stretched"),
            Piece("p3", "file1", 0, S),
        )
        sound = self.heard(self.show(CutList(pieces, files=(file,))))
        self.assertEqual(sound.shape[1], round(2.5 * HZ))
        self.assertLess(np.abs(np.diff(sound[0])).max(), 0.06)


class Musics(FileCase):
    def test_music_goes_on_for_as_long_as_the_program_does(self):
        opening, music = self.taken_in(), self.taken_in(name="song.mp4")
        music = replace(music, id="file2")
        pieces = tuple(Piece(f"p{n}", "file1", 0, 3 * S, percent=50) for n in range(2))
        cuts = CutList(pieces, files=(opening, music), music=Music("file2", 0.0, 0))
        sound = self.heard(self.show(cuts))
        loud = np.sqrt((sound**2).mean(0).reshape(-1, HZ // 10).mean(1))
        self.assertGreater(loud.min(), 0.1)
        self.assertEqual(sound.shape[1], 12 * HZ)


class Faults(FileCase):
    def test_what_cannot_be_played_is_refused_in_words_and_leaves_nothing(self):
        cut = io.BytesIO(video().getvalue()[:3000])
        for data, name, words in (
            (io.BytesIO(b"la la la\n" * 50), "song.mp3", "cannot be played"),
            (io.BytesIO(b"la"), "song.txt", "neither a video nor a sound"),
            (io.BytesIO(b""), "empty.wav", "cannot be played"),
            (cut, "half.mp4", "cannot be played"),
        ):
            with self.assertRaisesRegex(CutError, words):
                take_in(data, name, self.folder)
        self.assertEqual(list(self.folder.glob("*")) if self.folder.exists() else [], [])

    def test_a_full_disk_leaves_nothing(self):
        with small_disk(self.folder, 1) as disk:
            data = io.BytesIO(video(seconds=8, size=(640, 480)).getvalue())
            with self.assertRaises(TakeError):
                take_in(data, "opening.mp4", disk / "files")
            self.assertEqual([p.name for p in disk.rglob("*") if p.is_file()], [])

    def test_a_file_that_is_gone_is_named(self):
        file = self.taken_in()
        file_path(self.folder, file).unlink()
        with (
            self.assertRaisesRegex(CutError, "“opening.mp4” is gone"),
            closing(
                show_of_assembly({}, CutList((Piece("p1", "file1", 0, S),), files=(file,)), SMALL)
            ),
        ):
            pass
