import filecmp
import hashlib
import json
import unittest
from dataclasses import replace
from unittest import mock

import av
import numpy as np

from kettle_core.errors import DeviceError, TakeError
from kettle_engine.clock import VirtualClock
from kettle_engine.devices.rack import Rack
from kettle_engine.recording.take import record_take
from kettle_media.take.folder import TakeFolder
from kettle_media.take.inspect import inspect_take
from kettle_media.take.times import read_times
from kettle_media.take.tracks import PictureWriter
from kettle_studio.driver import Studio
from tests.fixtures import ROOT, demo_take, small_rig


def packets(path):
    """Sums of a track's encoded packets; the file round them has random ids."""
    with av.open(str(path)) as container:
        return [hashlib.sha256(bytes(packet)).hexdigest() for packet in container.demux()]


class Taking(unittest.TestCase):
    def test_the_same_seed_gives_the_same_take_bit_for_bit(self):
        again = ROOT / "again"
        record_take(Studio(1), small_rig(), again, 4 * 10**9)
        first = demo_take().path
        for path in sorted([*first.glob("tracks/*.mkv"), *first.glob("tracks/*.csv")]):
            with self.subTest(path.name):
                if path.suffix == ".csv":
                    self.assertTrue(filecmp.cmp(path, again / "tracks" / path.name, False))
                else:
                    self.assertEqual(packets(path), packets(again / "tracks" / path.name))
        self.assertTrue(filecmp.cmp(first / "events.jsonl", again / "events.jsonl", False))

    def test_inspect_tells_what_was_recorded_and_comes_near_the_truth(self):
        found = inspect_take(demo_take())
        self.assertEqual((found["state"], found["duration_s"]), ("complete", 4.0))
        rows = {row["name"]: row for row in found["tracks"]}
        self.assertEqual(list(rows), ["display-1", "webcam-1", "headset", "system"])
        self.assertEqual(rows["webcam-1"]["size"], "640x360")
        self.assertEqual(rows["headset"]["sample_rate_hz"], 48000)
        for row in rows.values():
            self.assertEqual(row["dropped"], 0)
            self.assertGreater(row["duration_s"], 3.9)
            self.assertAlmostEqual(row["offset_ms"], row["true_offset_ms"], delta=16)
            self.assertAlmostEqual(row["drift_ppm"], row["true_drift_ppm"], delta=60)

    def test_a_display_has_few_frames_and_a_webcam_all(self):
        rows = {r["name"]: r for r in inspect_take(demo_take())["tracks"]}
        self.assertLess(rows["display-1"]["frames"], 100)
        self.assertGreaterEqual(rows["display-1"]["frames"], 4)
        self.assertGreater(rows["webcam-1"]["frames"], 117)

    def test_events_cues_and_journal_lie_beside_the_tracks(self):
        folder = demo_take(6)
        events = [json.loads(x) for x in (folder.path / "events.jsonl").read_text().splitlines()]
        self.assertEqual({e["what"] for e in events}, {"pointer", "click"})
        self.assertEqual([e["device_ns"] for e in events], sorted(e["device_ns"] for e in events))
        cue = json.loads((folder.path / "cues.jsonl").read_text())
        self.assertEqual((cue["do"], cue["scene"]), ("scene", "scene-1"))
        self.assertIn("finished", (folder.path / "journal.jsonl").read_text())

    def test_a_folder_with_something_in_it_is_left_alone(self):
        path = ROOT / "mine"
        path.mkdir()
        (path / "thesis.txt").write_text("years of work")
        with self.assertRaisesRegex(TakeError, "not empty; nothing was written"):
            record_take(Studio(), small_rig(), path, 10**9)
        self.assertEqual([p.name for p in path.iterdir()], ["thesis.txt"])

    def test_a_device_that_is_not_there_is_named_before_anything_is_written(self):
        rig = small_rig()
        rig = replace(rig, inputs=(replace(rig.inputs[0], device="display-9"), *rig.inputs[1:]))
        with self.assertRaisesRegex(DeviceError, "display-9"):
            record_take(Studio(), rig, ROOT / "none", 10**9)
        self.assertFalse((ROOT / "none").exists())

    def test_a_disk_without_room_is_told_before_and_ends_a_take_cleanly(self):
        with self.assertRaisesRegex(TakeError, "nothing was recorded"):
            record_take(Studio(), small_rig(), ROOT / "full", 10**9, reserve_bytes=10**18)
        rooms = iter([10**12] * 4)
        with mock.patch(
            "kettle_engine.recording.recorder.free_bytes", side_effect=lambda _: next(rooms, 10**6)
        ):
            info = record_take(Studio(), small_rig(), ROOT / "filling", 30 * 10**9)
        self.assertEqual(info.ended_because, "the disk is nearly full")
        self.assertIn("ended by itself", info.notes[0])
        rows = inspect_take(TakeFolder(ROOT / "filling"))["tracks"]
        self.assertTrue(all(1 < row["duration_s"] < 3 for row in rows))

    def test_a_write_that_fails_ends_the_take_and_keeps_what_was_written(self):
        real, count = PictureWriter.write, iter(range(10**6))

        def write(writer, buffer, pts_ns):
            if next(count) > 40:
                raise OSError(28, "No space left on device")
            real(writer, buffer, pts_ns)

        with mock.patch.object(PictureWriter, "write", write):
            info = record_take(Studio(), small_rig(), ROOT / "broken", 30 * 10**9)
        self.assertIn("No space left", info.ended_because)
        rows = inspect_take(TakeFolder(ROOT / "broken"))["tracks"]
        self.assertEqual([r for r in rows if "error" in r], [])

    def test_a_track_that_fails_in_any_other_way_ends_alone_and_is_told(self):
        real, count = PictureWriter.write, iter(range(10**6))

        def write(writer, buffer, pts_ns):
            if "webcam" in writer._path.name and next(count) > 40:
                raise ZeroDivisionError("a mistake of ours")
            real(writer, buffer, pts_ns)

        with mock.patch.object(PictureWriter, "write", write):
            info = record_take(Studio(), small_rig(), ROOT / "alone", 4 * 10**9)
        self.assertEqual(info.ended_because, "stopped")
        self.assertEqual(info.notes, ("Desk webcam: ZeroDivisionError('a mistake of ours')",))
        folder = TakeFolder(ROOT / "alone")
        lines = [json.loads(x) for x in folder.journal_path.read_text().splitlines()]
        ended = next(line for line in lines if line["what"] == "track ended")
        self.assertEqual(ended["input"], "webcam-1")
        self.assertAlmostEqual(ended["at_ns"], 41e9 / 30, delta=0.1e9)
        rows = {r["name"]: r for r in inspect_take(folder)["tracks"]}
        self.assertEqual(rows["webcam-1"]["frames"], 41)
        self.assertAlmostEqual(rows["headset"]["duration_s"], 4.0, delta=0.3)

    def test_events_keep_their_record_time_when_the_displays_clock_jumps(self):
        rig = small_rig()
        display = tuple(replace(i, on=i.id == "display-1") for i in rig.inputs)

        def clicks(name, jumps):
            studio = Studio(1)
            happenings = {3: lambda: studio.jump_clock("display-1")} if jumps else {}
            record_take(studio, replace(rig, inputs=display), ROOT / name, 9 * 10**9,
                        lambda s: happenings.pop(round(s), lambda: None)())  # fmt: skip
            lines = (ROOT / name / "events.jsonl").read_text().splitlines()
            events = [json.loads(line) for line in lines]
            return [e["at_ns"] / 1e9 for e in events if e["what"] == "click"]

        steady, jumped = clicks("steady", False), clicks("jumped", True)
        self.assertGreater(max(steady), 4)
        np.testing.assert_allclose(jumped, steady, atol=0.05)

    def test_every_line_of_events_cues_and_journal_has_record_time(self):
        folder = demo_take(6)
        for name in ("events", "cues", "journal"):
            lines = (folder.path / f"{name}.jsonl").read_text().splitlines()
            self.assertTrue(lines)
            for line in lines:
                self.assertIn("at_ns", json.loads(line), line)


class Dropping(unittest.TestCase):
    def test_who_comes_too_late_finds_frames_overwritten(self):
        clock = VirtualClock()
        rack = Rack(Studio(), clock)
        rack.set_inputs(i for i in small_rig().inputs if i.has_track)
        for _ in range(50):
            rack.step()
        clock.sleep_until(clock.now_ns() + 3 * 10**9)
        lost = sum(rack.step().lost for _ in range(20))
        self.assertGreater(lost, 120)
        self.assertGreater(rack.worst_late_ns, 2.9e9)


class Sidecar(unittest.TestCase):
    def test_every_frame_of_a_track_has_its_times(self):
        folder = demo_take()
        for track in folder.read_info().tracks:
            rows = read_times(folder.times_path(track))
            self.assertTrue(np.all(np.diff(rows["device_ns"]) > 0))
            self.assertTrue(np.all(np.diff(rows["no"]) == 1))
            self.assertGreaterEqual(rows["pts_ns"][0], 0)
