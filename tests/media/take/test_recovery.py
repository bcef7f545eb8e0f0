"""Takes that were damaged after they were recorded: mended as far as they go, originals kept."""

import shutil
import unittest

import numpy as np

from kettle_core.errors import NoRoomError, TakeError
from kettle_media.program.take_program import compose_take
from kettle_media.take.align import align_take
from kettle_media.take.folder import TakeFolder
from kettle_media.take.recovery import LOST, RECOVERED, WHOLE, recover_take
from kettle_media.take.times import read_times
from tests.fixtures import ROOT, copied_take
from tests.small_disk import small_disk


def cut(path, share):
    data = path.read_bytes()
    path.write_bytes(data[: round(len(data) * share)])
    return data


class Damage(unittest.TestCase):
    def states(self, folder):
        return {v.track: v.state for v in recover_take(folder)}

    def test_a_whole_take_is_left_as_it_is(self):
        folder = copied_take("recover-whole")
        before = {p: p.stat().st_mtime_ns for p in folder.path.rglob("*") if p.is_file()}
        self.assertEqual(set(self.states(folder).values()), {WHOLE})
        self.assertEqual({p: p.stat().st_mtime_ns for p in before}, before)
        self.assertFalse((folder.path / "originals").exists())

    def test_each_kind_of_damage_is_mended_as_far_as_it_goes(self):
        folder = copied_take("recover-all")
        info = folder.read_info()
        display, webcam, headset, system = (
            info.track(name) for name in ("display-1", "webcam-1", "headset", "system")
        )
        exact = read_times(folder.times_path(webcam))
        cut(folder.track_path(display), 0.5)
        was = folder.track_path(display).read_bytes()
        folder.times_path(webcam).unlink()
        lines = folder.times_path(headset).read_text().splitlines(keepends=True)
        lines[20] = "not,a,row\n"
        folder.times_path(headset).write_text("".join(lines))
        folder.track_path(system).write_bytes(b"something else altogether")
        found = {v.track: v for v in recover_take(folder)}
        states = {name: v.state for name, v in found.items()}
        mended = dict.fromkeys(("display-1", "webcam-1", "headset"), RECOVERED)
        self.assertEqual(states, {**mended, "system": LOST})
        self.assertRegex(found["display-1"].words, r"cut short; [1-3]\.\d s are there")
        self.assertIn("exact to a ms", found["webcam-1"].words)
        self.assertEqual((folder.path / "originals" / "display-1.mkv").read_bytes(), was)
        self.assertEqual(read_times(folder.times_path(headset)).size, len(lines) - 2)
        after = read_times(folder.times_path(webcam))
        self.assertEqual(after.size, exact[exact["kept"] == 1].size)
        self.assertLess(np.abs(after["pts_ns"] - exact["pts_ns"][exact["kept"] == 1]).max(), 1e6)
        info = folder.read_info()
        self.assertEqual(info.damaged, {"system"})
        self.assertIn(found["display-1"].words, info.notes)
        align_take(folder, info, info.damaged)
        compose_take(folder, folder.program_path)
        self.assertTrue(folder.program_path.is_file())
        # What is mended is whole; the file that was put back is found again.
        self.assertEqual(self.states(folder), {**dict.fromkeys(mended, WHOLE), "system": LOST})
        shutil.copyfile(folder.track_path(headset), folder.track_path(system))
        self.states(folder)
        self.assertEqual(folder.read_info().damaged, frozenset())
        self.assertEqual((folder.path / "originals" / "display-1.mkv").read_bytes(), was)

    def test_a_take_that_is_being_written_or_was_cut_off_is_left_alone(self):
        folder = copied_take("recover-held")
        with folder.held(), self.assertRaisesRegex(TakeError, "being written"):
            recover_take(folder)

    def test_a_full_disk_leaves_it_as_it_was_and_says_so(self):
        source = copied_take("recover-disk")
        with small_disk(ROOT / "recovery-disk", 40) as disk:
            shutil.copytree(source.path, disk / "take")
            folder = TakeFolder(disk / "take")
            path = folder.track_path(folder.read_info().track("display-1"))
            cut(path, 0.9)
            before = path.read_bytes()
            (disk / "full").write_bytes(bytes(shutil.disk_usage(disk).free - len(before) // 2))
            with self.assertRaisesRegex(NoRoomError, "Make room"):
                recover_take(folder)
            self.assertEqual(path.read_bytes(), before)
            (disk / "full").unlink()
            states = {v.track: v.state for v in recover_take(folder)}
            self.assertEqual(states["display-1"], RECOVERED)
