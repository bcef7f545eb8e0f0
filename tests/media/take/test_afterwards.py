import unittest

import numpy as np

from kettle_core.errors import TakeError
from kettle_core.program.afterwards import Afterwards, Nudge
from kettle_core.program.cues import Hide, Mark, ToScene
from kettle_media.take.afterwards import (
    afterwards_from_dict,
    afterwards_to_dict,
    follow_cues,
    read_afterwards,
    read_recorded,
    write_afterwards,
)
from kettle_media.take.align import align_take
from kettle_media.take.folder import TakeFolder
from tests.fixtures import ROOT, copied_take
from tests.small_disk import small_disk

CHANGED = Afterwards(
    (ToScene(0, "scene-1"), Hide(10**9, "webcam-1"), Mark(2 * 10**9, "“again”", 3 * 10**9)),
    (Nudge("headset", -12.5),),
)


class AfterwardsFile(unittest.TestCase):
    def test_what_was_changed_counts_and_back_at_the_original_nothing_is_left(self):
        folder = copied_take("afterwards")
        info = folder.read_info()
        write_afterwards(folder, CHANGED)
        self.assertEqual(read_afterwards(folder), (CHANGED, []))
        self.assertEqual(afterwards_from_dict(afterwards_to_dict(CHANGED)), CHANGED)
        said = follow_cues(folder, info.rig_values)
        self.assertEqual(said.moments[-1].state.hidden, {"webcam-1"})
        self.assertEqual(read_recorded(folder, info).cues, (ToScene(0, "scene-1"),))
        write_afterwards(folder, Afterwards())
        self.assertFalse(folder.afterwards_path.exists())

    def test_a_nudged_track_lies_later_for_all_who_ask_and_what_was_measured_stays(self):
        folder = copied_take("nudged")
        info = folder.read_info()
        before, measured = align_take(folder, info), (folder.path / "sync.json").read_bytes()
        write_afterwards(folder, CHANGED)
        after = align_take(folder, info)
        for name, ms in (("headset", -12.5), ("webcam-1", 0.0)):
            moved = after.captured_ns[name] - before.captured_ns[name]
            np.testing.assert_allclose(moved, ms * 1e6, atol=0.01)
            latency_ms = before.of(name).latency_ms - after.of(name).latency_ms
            self.assertAlmostEqual(latency_ms, ms)
        self.assertEqual((folder.path / "sync.json").read_bytes(), measured)

    def test_a_damaged_file_leaves_the_take_as_it_was_recorded_and_says_so(self):
        folder = copied_take("afterwards-damaged")
        rig = folder.read_info().rig_values
        for text in ("{", '{"cues": 3}', '{"nudges": [{"track": "headset", "ms": 1e9}]}'):
            folder.afterwards_path.write_text(text)
            self.assertIn("afterwards.json is left out", follow_cues(folder, rig).left_out[0])
            self.assertEqual(read_afterwards(folder)[0], Afterwards())

    def test_on_a_full_disk_what_was_there_stays(self):
        with small_disk(ROOT / "afterwards-disk", 1) as disk:
            folder = TakeFolder(disk)
            write_afterwards(folder, CHANGED)
            many = Afterwards(tuple(Mark(n, "x" * 190) for n in range(9000)))
            with self.assertRaisesRegex(TakeError, "Nothing was changed"):
                write_afterwards(folder, many)
            self.assertEqual(read_afterwards(folder)[0], CHANGED)
