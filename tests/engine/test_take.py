import filecmp
import json
import unittest
from dataclasses import replace
from unittest import mock

import av
import numpy as np

from kettle_core.devices import Capture
from kettle_core.errors import DeviceError, TakeError
from kettle_engine.clock import VirtualClock
from kettle_engine.rack import Delivery, Rack
from kettle_engine.recorder import PICTURE_QUEUE, Track
from kettle_engine.take import record_take
from kettle_media.inspect import inspect_take
from kettle_media.take_folder import TakeFolder
from kettle_media.tracks import PictureWriter, read_times
from kettle_studio.demo import demo_rig
from kettle_studio.driver import Studio
from tests.fixtures import ROOT, demo_take


def packets(path):
    """The encoded packets of a track; the file round them has random ids."""
    with av.open(str(path)) as container:
        return [bytes(packet) for packet in container.demux()]


class Taking(unittest.TestCase):
    def test_the_same_seed_gives_the_same_take_bit_for_bit(self):
        again = ROOT / "again"
        record_take(Studio(1), VirtualClock(), demo_rig(), again, 4 * 10**9)
        first = demo_take().path
        for path in sorted(first.glob("tracks/*")):
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
        self.assertEqual(rows["webcam-1"]["size"], "1920x1080")
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
        self.assertEqual((cue["what"], cue["scene"]), ("scene", "scene-1"))
        self.assertIn("finished", (folder.path / "journal.jsonl").read_text())

    def test_a_folder_with_something_in_it_is_left_alone(self):
        path = ROOT / "mine"
        path.mkdir()
        (path / "thesis.txt").write_text("years of work")
        with self.assertRaisesRegex(TakeError, "not empty; nothing was written"):
            record_take(Studio(), VirtualClock(), demo_rig(), path, 10**9)
        self.assertEqual([p.name for p in path.iterdir()], ["thesis.txt"])

    def test_a_device_that_is_not_there_is_named_before_anything_is_written(self):
        rig = demo_rig()
        rig = replace(rig, inputs=(replace(rig.inputs[0], device="display-9"), *rig.inputs[1:]))
        with self.assertRaisesRegex(DeviceError, "display-9"):
            record_take(Studio(), VirtualClock(), rig, ROOT / "none", 10**9)
        self.assertFalse((ROOT / "none").exists())

    def test_a_disk_without_room_is_told_before_and_ends_a_take_cleanly(self):
        with self.assertRaisesRegex(TakeError, "nothing was recorded"):
            record_take(
                Studio(), VirtualClock(), demo_rig(), ROOT / "full", 10**9, reserve_bytes=10**18
            )
        rooms = iter([10**12] * 4)
        with mock.patch(
            "kettle_engine.recorder.free_bytes", side_effect=lambda _: next(rooms, 10**6)
        ):
            info = record_take(Studio(), VirtualClock(), demo_rig(), ROOT / "filling", 30 * 10**9)
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
            info = record_take(Studio(), VirtualClock(), demo_rig(), ROOT / "broken", 30 * 10**9)
        self.assertIn("No space left", info.ended_because)
        rows = inspect_take(TakeFolder(ROOT / "broken"))["tracks"]
        self.assertEqual([r for r in rows if "error" in r], [])


class Dropping(unittest.TestCase):
    def test_an_overfull_queue_drops_pictures_and_counts_them_but_never_sound(self):
        rig, clock = demo_rig(), VirtualClock()
        rack = Rack(Studio(), clock)
        items = [rig.input(name) for name in ("webcam-1", "headset")]
        rack.set_inputs(items)
        folder = TakeFolder.create(ROOT / "slow")
        tracks = {}
        with mock.patch("threading.Thread.start"):
            for item in items:
                info = {"file": f"tracks/{item.id}.mkv"}
                tracks[item.id] = Track(folder, item, info, wait=False)
        for _ in range(700):
            delivery = rack.step()
            tracks[delivery.inputs[0].id].take(delivery, 0)
        webcam, headset = tracks["webcam-1"], tracks["headset"]
        self.assertEqual(webcam.waiting, PICTURE_QUEUE)
        self.assertGreater(webcam.dropped, 10)
        self.assertEqual(headset.dropped, 0)
        self.assertGreater(headset.waiting, 100)
        before = webcam.dropped
        webcam._thread = mock.Mock(join=lambda: None)
        webcam._queue.get()
        late = Capture(10**6, 10**15, 33_000_000, np.zeros((1620, 1920), np.uint8))
        webcam.take(Delivery(next(iter(rack.sources.values())), late, 10**12, lost=3), 0)
        self.assertEqual(webcam.dropped, before + 3)

    def test_who_comes_too_late_finds_frames_overwritten(self):
        clock = VirtualClock()
        rack = Rack(Studio(), clock)
        rack.set_inputs(i for i in demo_rig().inputs if i.has_track)
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
            self.assertTrue(np.all(np.diff(rows[:, 1]) > 0))
            self.assertTrue(np.all(np.diff(rows[:, 0]) == 1))
            self.assertGreaterEqual(rows[0, 3], 0)
