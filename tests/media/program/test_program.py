"""Programs of takes: cues to the frame, parts equal to the whole, faults that leave the old one."""

import os
import shutil
import signal
import threading
import unittest
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from fractions import Fraction
from multiprocessing import get_context
from pathlib import Path
from unittest import mock

import av
import numpy as np

from kettle_core.errors import TakeError
from kettle_core.program.cues import CloseUp, GoOn, Hide, Pause, ToScene
from kettle_core.program.replay import replay
from kettle_core.rig.changes import with_format
from kettle_core.rig.format import Format
from kettle_core.rig.sound_changes import with_tone
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import ChangeOver
from kettle_core.sound.tone import Tone
from kettle_core.timing.time_map import Source
from kettle_media.picture.frame_planes import frame_to_i420
from kettle_media.program import cleaned, program_file
from kettle_media.program.renderer import Renderer
from kettle_media.program.sources import TakeSources
from kettle_media.program.take_program import compose_one_frame, compose_take, plan_take
from kettle_media.rig_document import rig_to_dict
from kettle_media.take.align import align_take
from kettle_media.take.cues import read_cues, write_cues
from kettle_media.take.folder import TakeFolder
from kettle_media.take.inspect import inspect_take
from tests.fixtures import ROOT, copied_take
from tests.small_disk import small_disk

MS = 10**6
FPS = Fraction(15)
SIZE = (320, 180)
CLEANED = Tone(low_cut=True)


def small_take(name, cues=(), change=lambda rig: rig):
    """The demo take with a small program and other cues."""
    folder = copied_take(name)
    info = folder.read_info()
    rig = change(with_format(info.rig_values, Format(*SIZE, FPS)))
    folder.write_info(replace(info, rig=rig_to_dict(rig)))
    write_cues(folder, cues)
    return folder


def renderer_of(test, folder):
    info = folder.read_info()
    sources = TakeSources(folder, info, align_take(folder, info))
    test.addCleanup(sources.close)
    said = replay(sources.rig, read_cues(folder)[0])
    plan, _ = plan_take(sources.rig, said, info.id, sources.length_ns)
    return plan, Renderer(plan, {Source("take", info.id): sources}, sources.masks())


def decoded(path):
    with av.open(str(path)) as container:
        stream = container.streams.video[0]
        return [frame_to_i420(f).astype(int) for f in container.decode(stream)]


def heard(path):
    with av.open(str(path)) as container:
        blocks = [f.to_ndarray() for f in container.decode(container.streams.audio[0])]
    return np.concatenate(blocks, axis=1)


def open_files():
    """How many files this process has open."""
    return len(list(Path("/proc/self/fd").iterdir()))


def packets(path):
    with av.open(str(path)) as container:
        return [bytes(p) for p in container.demux(container.streams.video[0]) if p.size]


def drawn_frames():
    """Counts the frames that are drawn while it is entered."""
    numbers = []
    real = Renderer.frames

    def counted(self, wanted):
        wanted = list(wanted)
        numbers.extend(wanted)
        return real(self, wanted)

    return mock.patch.object(Renderer, "frames", counted), numbers


class Cued(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.cues = [
            ToScene(1000 * MS, "scene-2", ChangeOver("crossfade", 400)),
            Hide(2000 * MS, "webcam-1"),
            ToScene(2500 * MS, "scene-1", ChangeOver("glide", 400)),
            CloseUp(3200 * MS, "display-1", Box(400, 300, 640, 360), 300),
        ]
        cls.folder = small_take("cued", cls.cues)
        compose_take(cls.folder, cls.folder.program_path)
        cls.frames = decoded(cls.folder.program_path)

    def still(self, scene, frame):
        picture = compose_one_frame(self.folder, scene, float(frame / FPS))
        return np.concatenate([p.reshape(-1) for p in (picture.y, picture.u, picture.v)])

    def apart(self, number, still):
        return np.abs(self.frames[number].reshape(-1) - still.astype(int)).mean()

    def test_a_scene_comes_in_at_the_first_frame_at_or_after_its_cue(self):
        self.assertEqual(len(self.frames), 60)
        one, two = self.still("scene-1", 14), self.still("scene-2", 14)
        self.assertLess(self.apart(14, one), 3)
        self.assertGreater(self.apart(14, two), 10)
        # At 15 the change-over begins with nothing of the new scene, at 21 it is done.
        self.assertLess(self.apart(15, self.still("scene-1", 15)), 3)
        middle = (self.still("scene-1", 18).astype(float) + self.still("scene-2", 18)) / 2
        self.assertLess(self.apart(18, middle.round()), 3)
        self.assertLess(self.apart(21, self.still("scene-2", 21)), 3)

    def test_every_frame_is_what_the_plan_says_drawn_in_any_order(self):
        plan, renderer = renderer_of(self, self.folder)
        order = np.random.default_rng(1).permutation(plan.frames)
        apart = {int(n): np.abs(renderer.frame(int(n)).astype(int) - self.frames[n]).mean()
                 for n in order}  # fmt: skip
        self.assertLess(max(apart.values()), 4, apart)

    def test_parts_drawn_apart_equal_the_whole(self):
        plan, renderer = renderer_of(self, self.folder)
        whole = [f.copy() for f in renderer.frames(range(plan.frames))]
        _, other = renderer_of(self, self.folder)
        for first, end in ((31, 60), (0, 17), (17, 31)):
            for number, frame in enumerate(other.frames(range(first, end)), first):
                np.testing.assert_array_equal(frame, whole[number])

    def test_takes_that_were_let_go_are_opened_again_when_they_are_asked_for(self):
        info = self.folder.read_info()
        sources = TakeSources(self.folder, info, align_take(self.folder, info))
        self.addCleanup(sources.close)
        there = open_files()
        found = []
        for _ in range(2):
            picture = sources.pictures(["webcam-1"], 1.5e9)["webcam-1"]
            found.append((picture.y.copy(), sources.sound("headset", Tone(), 48_000, 480)))
            self.assertGreater(open_files(), there)
            sources.rest()
            self.assertEqual(open_files(), there)
        for before, after in zip(*found, strict=True):
            np.testing.assert_array_equal(before, after)

    def test_a_still_without_a_scene_is_what_the_program_shows(self):
        still = self.still("", 59)
        self.assertLess(self.apart(59, still), 3)
        self.assertGreater(np.abs(still.astype(int) - self.still("scene-1", 59)).mean(), 2)

    def test_a_change_of_one_cue_draws_only_what_it_changes(self):
        folder = small_take("changed-cue", self.cues)
        shutil.copy(self.folder.program_path, folder.program_path)
        compose_take(folder, folder.program_path)
        before = packets(folder.program_path)
        patch, drawn = drawn_frames()
        with patch:
            compose_take(folder, folder.program_path)
        self.assertEqual(drawn, [])
        self.assertEqual(packets(folder.program_path), before)
        write_cues(folder, self.cues[:-1])
        patch, drawn = drawn_frames()
        with patch:
            compose_take(folder, folder.program_path)
        # The cell of two seconds in which the close-up was.
        self.assertEqual(drawn, list(range(30, 60)))
        self.assertEqual(packets(folder.program_path)[:30], before[:30])
        again = decoded(folder.program_path)
        folder.program_path.unlink()
        compose_take(folder, folder.program_path)
        for ours, whole in zip(again, decoded(folder.program_path), strict=True):
            self.assertLess(np.abs(ours - whole).mean(), 2)

    def test_a_cell_that_is_damaged_is_made_anew(self):
        folder = small_take("damaged-cell", self.cues)
        compose_take(folder, folder.program_path)
        before = packets(folder.program_path)
        data = bytearray(folder.program_path.read_bytes())
        at = data.find(before[40])
        data[at + 20 : at + len(before[40])] = bytes(len(before[40]) - 20)
        folder.program_path.write_bytes(data)
        patch, drawn = drawn_frames()
        with patch:
            compose_take(folder, folder.program_path)
        self.assertEqual(drawn, list(range(30, 60)))
        for ours, whole in zip(decoded(folder.program_path), self.frames, strict=True):
            self.assertLess(np.abs(ours - whole).mean(), 2)

    def test_a_program_of_another_file_is_not_taken_over(self):
        folder = small_take("foreign-cells", self.cues)
        compose_take(folder, folder.program_path)
        folder.program_path.write_bytes(folder.program_path.read_bytes()[:-100])
        patch, drawn = drawn_frames()
        with patch:
            compose_take(folder, folder.program_path)
        self.assertEqual(drawn, list(range(60)))


class LeftOut(unittest.TestCase):
    def test_cues_that_cannot_be_followed_are_told_with_the_take(self):
        folder = small_take("left-out", [ToScene(0, "scene-9"), Hide(5, "headset")])
        with folder.cues_path.open("a") as file:
            file.write("no cue")
        notes = "\n".join(inspect_take(folder)["notes"])
        for words in ("Line 3 of cues.jsonl is left out", "no scene “scene-9”", "it can be muted"):
            self.assertIn(words, notes)


class Pauses(unittest.TestCase):
    def test_a_pause_is_closed_in_pictures_and_sound(self):
        folder = small_take("paused", [Pause(1000 * MS), GoOn(2000 * MS)])
        compose_take(folder, folder.program_path)
        frames = decoded(folder.program_path)
        self.assertEqual(len(frames), 45)
        for number, at_s in ((14, 14 / 15), (15, 2.0), (44, 59 / 15)):
            still = compose_one_frame(folder, "", at_s)
            self.assertLess(np.abs(frames[number][: SIZE[1]] - still.y.astype(int)).mean(), 3)
        sound = heard(folder.program_path)
        self.assertAlmostEqual(sound.shape[1] / 48_000, 3.0, delta=0.05)


class Sounds(unittest.TestCase):
    def test_a_scene_without_the_sounds_of_the_one_before_comes_without_a_click(self):
        def silent(rig):
            scenes = (rig.scenes[0], replace(rig.scenes[1], sounds=()), *rig.scenes[2:])
            return with_tone(replace(rig, scenes=scenes), "headset", Tone())

        cut = ChangeOver("cut")
        cues = [ToScene(1500 * MS, "scene-2", cut), ToScene(2500 * MS, "scene-1", cut)]
        plain, cued = small_take("uncued"), small_take("cut-sound", cues, silent)
        for folder in (plain, cued):
            compose_take(folder, folder.program_path)
        whole, cut_out = heard(plain.program_path), heard(cued.program_path)
        steps = np.abs(np.diff(cut_out, axis=1)).max()
        self.assertLess(steps, 1.2 * np.abs(np.diff(whole, axis=1)).max())
        silence = cut_out[:, round(1.6 * 48_000) : round(2.4 * 48_000)]
        self.assertLess(np.abs(silence).max(), 0.002)
        np.testing.assert_allclose(cut_out[:, 5000:60_000], whole[:, 5000:60_000], atol=0.02)

    def test_cleaned_sounds_are_kept_until_their_chain_changes(self):
        tone = CLEANED
        folder = small_take("kept-cleaned", (), lambda rig: with_tone(rig, "headset", tone))
        with mock.patch.object(cleaned, "tone_chain", wraps=cleaned.tone_chain) as work:
            compose_take(folder, folder.program_path)
            compose_take(folder, folder.program_path)
            self.assertEqual(work.call_count, 1)
            info = folder.read_info()
            for changed, count in ((replace(tone, pan=0.5), 1), (replace(tone, gain_db=3.0), 2)):
                rig = with_tone(info.rig_values, "headset", changed)
                folder.write_info(replace(info, rig=rig_to_dict(rig)))
                compose_take(folder, folder.program_path)
                self.assertEqual(work.call_count, count)
        self.assertEqual(len(list(folder.cleaned_path.glob("*.mkv"))), 1)


class Faults(unittest.TestCase):
    def test_a_full_disk_leaves_the_program_that_was_there(self):
        source = small_take("full-disk")
        with small_disk(ROOT / "program-disk", 40) as disk:
            shutil.copytree(source.path, disk / "take")
            folder = TakeFolder(disk / "take")
            compose_take(folder, folder.program_path)
            before = folder.program_path.read_bytes()
            write_cues(folder, [Hide(0, "webcam-1")])
            room = shutil.disk_usage(disk).free - 60_000
            (disk / "full").write_bytes(bytes(room))
            with self.assertRaisesRegex(TakeError, "cannot be written"):
                compose_take(folder, folder.program_path)
            self.assertEqual(folder.program_path.read_bytes(), before)
            self.assertEqual(list(folder.path.glob(".*.part*")), [])
            (disk / "full").unlink()
            compose_take(folder, folder.program_path)
            self.assertNotEqual(folder.program_path.read_bytes(), before)

    def test_two_who_compose_one_take_at_once_do_so_one_after_the_other(self):
        folder = small_take("twice-at-once", (), lambda r: with_tone(r, "headset", CLEANED))
        failed = []

        def compose():
            try:
                compose_take(folder, folder.program_path)
            except TakeError as error:
                failed.append(error)

        patch, drawn = drawn_frames()
        with patch, mock.patch.object(cleaned, "tone_chain", wraps=cleaned.tone_chain) as work:
            threads = [threading.Thread(target=compose) for _ in range(3)]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
        self.assertEqual(failed, [])
        self.assertEqual(drawn, list(range(60)))
        self.assertEqual(work.call_count, 1)
        self.assertEqual(len(decoded(folder.program_path)), 60)

    def test_two_who_clean_the_same_sound_do_it_once_and_both_have_it(self):
        folder = small_take("cleaned-twice")
        info = folder.read_info()
        sync = align_take(folder, info)
        track, tone = info.track("headset"), info.rig_values.input("headset").tone
        sound = cleaned.CleanedSound(folder, track, sync, tone, 48_000)
        # What one who was killed has left.
        folder.cleaned_path.mkdir(exist_ok=True)
        (folder.cleaned_path / ".headset-0.part.mkv").touch()
        counted = mock.patch.object(cleaned, "tone_chain", wraps=cleaned.tone_chain)
        with counted as work, ThreadPoolExecutor(3) as pool:
            found = list(pool.map(lambda _: sound.made(lambda: None), range(3)))
        for heard, raw in found:
            self.assertEqual(heard.read(0, 48_000).shape, (1, 48_000))
            raw.close()
        self.assertEqual(work.call_count, 1)
        self.assertEqual(len(list(folder.cleaned_path.glob("*.mkv"))), 1)

    def test_what_a_killed_process_left_half_written_is_removed(self):
        folder = small_take("half-written")
        folder.stems_path.mkdir(exist_ok=True)
        left = [folder.path / ".program.part.mp4", folder.stems_path / ".voice.part.flac"]
        for path in left:
            path.write_bytes(b"half")
        compose_take(folder, folder.program_path)
        self.assertEqual([p for p in left if p.exists()], [])

    def test_a_process_that_is_killed_while_it_puts_the_file_together_costs_nothing(self):
        folder = small_take("killed-at-the-end")
        compose_take(folder, folder.program_path)
        before = folder.program_path.read_bytes()
        write_cues(folder, [Hide(0, "webcam-1")])

        def killed(*_more):
            os.kill(os.getpid(), signal.SIGKILL)

        with mock.patch.object(program_file, "put_together", killed):
            composing = get_context("fork").Process(
                target=compose_take, args=(folder, folder.program_path)
            )
            composing.start()
            composing.join(120)
        self.assertEqual(composing.exitcode, -signal.SIGKILL)
        self.assertEqual(folder.program_path.read_bytes(), before)
        self.assertEqual(len(list(folder.path.glob(".*.part.*"))), 1)
        compose_take(folder, folder.program_path)
        self.assertNotEqual(folder.program_path.read_bytes(), before)
        self.assertEqual(list(folder.path.glob(".*.part*")), [])

    def test_a_part_that_cannot_be_read_again_leaves_the_program_that_was_there(self):
        folder = small_take("lost-part")
        compose_take(folder, folder.program_path)
        before = folder.program_path.read_bytes()
        write_cues(folder, [Hide(0, "webcam-1")])
        whole = program_file.put_together

        def torn(fragments, *more):
            size = fragments.stat().st_size
            os.truncate(fragments, size * 2 // 3)
            return whole(fragments, *more)

        with (
            mock.patch.object(program_file, "put_together", torn),
            self.assertRaisesRegex(TakeError, "read again|cannot be written"),
        ):
            compose_take(folder, folder.program_path)
        self.assertEqual(folder.program_path.read_bytes(), before)
        self.assertEqual(list(folder.path.glob(".*.part*")), [])

    def test_work_that_is_broken_off_ends_its_threads_and_leaves_nothing(self):
        folder = small_take("broken-off-program")
        before = threading.active_count()

        def stop(done, total):
            if done == 7:
                raise TakeError("It was stopped.")

        with self.assertRaisesRegex(TakeError, "stopped"):
            compose_take(folder, folder.program_path, stop)
        self.assertEqual(threading.active_count(), before)
        self.assertFalse(folder.program_path.exists())
        self.assertEqual([p.name for p in folder.path.glob(".*")], [])
        self.assertEqual(list(folder.stems_path.iterdir()), [])
