import json
import unittest
from dataclasses import replace
from unittest import mock

import av
import jsonschema

from kettle_core.errors import TakeError
from kettle_media.program.playable import write_playable, write_poster
from kettle_media.program.take_program import compose_take
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import SCHEMA_PATH
from kettle_media.take.inspect import inspect_take
from kettle_media.take.packets import read_packets
from kettle_media.take.repair import find_unfinished, repair_take
from kettle_media.take.times import read_times
from tests.fixtures import ROOT, copied_take, demo_take


class DamagedTakes(unittest.TestCase):
    def test_a_missing_track_is_named_with_what_to_do(self):
        folder = copied_take("missing")
        (folder.path / "tracks" / "webcam-1.mkv").unlink()
        with self.assertRaisesRegex(TakeError, "webcam-1.*compose with --without webcam-1"):
            compose_take(folder, folder.program_path)
        rows = {r["name"]: r for r in inspect_take(folder)["tracks"]}
        self.assertIn("lacks its file", rows["webcam-1"]["error"])
        self.assertIn("offset_ms", rows["headset"])

    def test_a_track_can_be_left_out_of_the_program(self):
        folder = copied_take("without")
        (folder.path / "tracks" / "webcam-1.mkv").unlink()
        compose_take(folder, folder.program_path, without=frozenset({"webcam-1"}))
        with av.open(str(folder.program_path)) as container:
            self.assertEqual(container.streams.video[0].frames, 120)
        with self.assertRaisesRegex(TakeError, "no track kazoo"):
            compose_take(folder, folder.program_path, without=frozenset({"kazoo"}))

    def test_a_damaged_track_or_sidecar_is_told_and_leaves_no_half_program(self):
        for name, damage in (
            ("headset.mkv", b"not a film"),
            ("headset.times.csv", b"no,device_ns\n1,2\n"),
            ("headset.times.csv", b"\xff\xfe\x00"),
        ):
            with self.subTest(name=name, damage=damage):
                folder = copied_take("damaged")
                (folder.path / "tracks" / name).write_bytes(damage)
                with self.assertRaisesRegex(TakeError, "headset"):
                    compose_take(folder, folder.program_path)
                self.assertEqual(list(folder.path.glob("*.mp4")), [])
                self.assertEqual(list(folder.path.glob(".*.mp4")), [])

    def test_a_take_json_that_is_foreign_or_hostile_is_refused(self):
        folder = copied_take("hostile")
        target = folder.path / "take.json"
        good = json.loads(target.read_text())
        for change, sentence in (
            ({"format": "other"}, "damaged at format"),
            ({"tracks": []}, "damaged at tracks"),
            ({"tracks": [{**good["tracks"][0], "file": "../../../etc/passwd"}]}, "tracks/0/file"),
            ({"surprise": 1}, "surprise"),
        ):
            with self.subTest(change=change):
                target.write_text(json.dumps({**good, **change}))
                with self.assertRaisesRegex(TakeError, sentence):
                    folder.read_info()
        target.write_text("[" * 100_000)
        with self.assertRaisesRegex(TakeError, "cannot be read"):
            folder.read_info()
        with self.assertRaisesRegex(TakeError, "is not a take"):
            TakeFolder(ROOT / "nowhere").read_info()


class Repairing(unittest.TestCase):
    def unfinished(self, name):
        folder = copied_take(name)
        folder.write_info(replace(folder.read_info(), state="recording", duration_ns=None))
        return folder

    def test_a_cut_off_take_is_found_and_brought_into_order(self):
        folder = self.unfinished("cut/one")
        whole = {}
        for track in folder.read_info().tracks:
            path = folder.track_path(track)
            whole[track.name] = len(read_packets(path))
            path.write_bytes(path.read_bytes()[: int(path.stat().st_size * 0.8)])
            times = folder.times_path(track)
            times.write_bytes(times.read_bytes()[:-7])
        self.assertEqual([f.path for f in find_unfinished(ROOT / "cut")], [folder.path])
        info = repair_take(folder)
        self.assertEqual(find_unfinished(ROOT / "cut"), [])
        self.assertIn("cut off", info.notes[0])
        for track in info.tracks:
            with av.open(str(folder.track_path(track))) as container:
                self.assertGreater(container.duration, 1_000_000)
            self.assertLess(len(read_packets(folder.track_path(track))), whole[track.name])
        compose_take(folder, folder.program_path)

    def test_a_track_that_holds_nothing_is_named_and_left(self):
        folder = self.unfinished("empty-track")
        path = folder.path / "tracks" / "system.mkv"
        path.write_bytes(b"")
        info = repair_take(folder)
        self.assertIn("System audio could not be repaired and is left out", info.notes[1])
        self.assertEqual(path.read_bytes(), b"")
        write_playable(folder, folder.read_info())
        sync = compose_take(folder, folder.program_path)
        self.assertEqual([t.name for t in sync.tracks], ["display-1", "webcam-1", "headset"])
        rows = {r["name"]: r for r in inspect_take(folder)["tracks"]}
        self.assertIn("error", rows["system"])


class OldTakes(unittest.TestCase):
    def test_a_take_from_before_is_read_given_an_id_and_composed(self):
        folder = copied_take("old")
        path = folder.path / "take.json"
        data = json.loads(path.read_text())
        del data["id"]
        path.write_text(json.dumps(data))
        for times in folder.path.glob("tracks/*.times.csv"):
            rows = [line.split(",")[:6] for line in times.read_text().splitlines()]
            times.write_text("".join(",".join(row) + "\n" for row in rows))
        (folder.path / "sync.json").write_text("[]")
        info = folder.read_info()
        self.assertRegex(info.id, r"^[0-9a-f]{8}-")
        self.assertEqual(folder.read_info().id, info.id)
        new = {r["name"]: r for r in inspect_take(demo_take())["tracks"]}
        for row in inspect_take(folder)["tracks"]:
            self.assertEqual(row["frames"], new[row["name"]]["frames"])
            self.assertAlmostEqual(row["offset_ms"], new[row["name"]]["offset_ms"], delta=0.2)
        compose_take(folder, folder.program_path)


class Files(unittest.TestCase):
    def test_take_json_follows_its_published_schema(self):
        data = json.loads((demo_take().path / "take.json").read_text())
        schema = json.loads(SCHEMA_PATH.read_text())
        jsonschema.Draft202012Validator.check_schema(schema)
        jsonschema.validate(data, schema)

    def test_playable_copies_hold_the_same_packets(self):
        folder = copied_take("playable")
        info = folder.read_info()
        write_playable(folder, info)
        for track in info.tracks:
            with self.subTest(track.name), av.open(str(folder.playable_path(track))) as copy:
                packets = sum(1 for p in copy.demux() if p.size)
                self.assertEqual(packets, len(read_packets(folder.track_path(track))))
        compose_take(folder, folder.program_path)
        write_poster(folder.program_path, folder.path / "poster.jpg")
        self.assertEqual((folder.path / "poster.jpg").read_bytes()[:2], b"\xff\xd8")

    def test_a_playable_copy_is_whole_or_as_it_was(self):
        folder = copied_take("half-playable")
        info = folder.read_info()
        write_playable(folder, info)
        target = folder.playable_path(info.track("webcam-1"))
        before = target.read_bytes()
        with (
            mock.patch("kettle_media.program.playable.put_in_place", side_effect=OSError("gone")),
            self.assertRaisesRegex(TakeError, "display-1.mp4 cannot be used"),
        ):
            write_playable(folder, info)
        self.assertEqual(target.read_bytes(), before)
        self.assertEqual(list(target.parent.glob(".*")), [])

    def test_a_sidecar_line_cut_by_a_kill_is_left_out(self):
        folder = copied_take("line")
        path = folder.path / "tracks" / "headset.times.csv"
        before = len(read_times(path))
        path.write_bytes(path.read_bytes()[:-3])
        self.assertEqual(len(read_times(path)), before - 1)
