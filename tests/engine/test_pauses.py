"""Cues and pauses in takes on the virtual clock, against the same take without them."""

import shutil
import unittest
from contextlib import closing
from dataclasses import replace
from functools import partial

import numpy as np

from kettle_core.program.cues import GoOn, Mark, Pause, ToScene
from kettle_engine.recording.take import Happening, record_take
from kettle_media.take.afterwards import follow_cues
from kettle_media.take.align import align_take, open_sound
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import COMPLETE
from kettle_media.take.inspect import inspect_take
from kettle_media.take.picture_track import PictureTrack
from kettle_media.take.times import KEPT, read_times
from kettle_media.take.track_index import track_index
from kettle_studio.driver import Studio
from tests.fixtures import ROOT, small_rig

S = 10**9
PAUSE, GO_ON, LENGTH = 1 * S, 9 * S + 345_678_901, 11 * S
CUES = (ToScene(0, "scene-1"), Pause(PAUSE), GoOn(GO_ON), Mark(10 * S, "again"))


def quick_rig():
    """The demo rig without its webcam, whose noise takes its time."""
    rig = small_rig()
    return replace(rig, inputs=tuple(replace(i, on=i.id != "webcam-1") for i in rig.inputs))


def taken(name, cues=(), **more):
    """A take of 11 s."""
    path = ROOT / name
    shutil.rmtree(path, ignore_errors=True)
    record_take(Studio(5), quick_rig(), path, LENGTH, cues=cues, **more)
    return TakeFolder(path)


class Pausing(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.whole, cls.paused = taken("whole"), taken("paused", CUES)

    def opened(self, folder):
        info = folder.read_info()
        return info, align_take(folder, info)

    def test_what_follows_a_pause_is_in_step_to_the_sample(self):
        # One clock for both, so that samples can be compared.
        _, sync = self.opened(self.whole)
        for name in ("headset", "system"):
            with self.subTest(name):
                track = self.whole.read_info().track(name)
                late = round(sync.of(name).latency_ms * 48)
                heard = []
                for folder in (self.whole, self.paused):
                    sound, raw = open_sound(folder, track, sync)
                    heard.append(sound.read(0, 11 * 48_000))
                    raw.close()
                whole, with_pause = heard
                end, go_on = (PAUSE + 5 * S) * 48_000 // S - late, GO_ON * 48_000 // S - late
                np.testing.assert_array_equal(with_pause[:, : end - 960], whole[:, : end - 960])
                np.testing.assert_array_equal(with_pause[:, go_on + 960 :], whole[:, go_on + 960 :])
                self.assertLess(np.abs(with_pause[:, end + 960 : go_on - 960]).max(), 1e-9)
                self.assertGreater(np.abs(whole[:, end + 960 : go_on - 960]).max(), 0.01)

    def test_pictures_are_those_of_the_take_without_a_pause_from_its_end_on(self):
        info, sync = self.opened(self.whole)
        _, of_paused = self.opened(self.paused)
        tracks = [
            PictureTrack(folder, info.track("display-1"), s)
            for folder, s in ((self.whole, sync), (self.paused, of_paused))
        ]
        with closing(tracks[0]), closing(tracks[1]):
            for at_ns in (0, S, 5 * S, GO_ON, GO_ON + S // 60, 10 * S):
                seen = [np.asarray(t.at(at_ns).y, np.int16) for t in tracks]
                self.assertLess(np.abs(seen[0] - seen[1]).mean(), 0.5, at_ns)

    def test_nothing_is_written_in_a_pause_but_a_stamp_now_and_then(self):
        for name in ("display-1", "headset"):
            track = self.paused.read_info().track(name)
            rows = read_times(self.paused.times_path(track))
            within = rows[(rows["pts_ns"] > PAUSE + 5.1 * S) & (rows["pts_ns"] < GO_ON - S // 10)]
            stamps = np.unique(within["no"])
            self.assertTrue(2 <= stamps.size <= 4, (name, stamps.size))
            self.assertEqual(rows["dropped"].sum(), 0)

    def test_a_picture_goes_on_with_a_keyframe(self):
        track = self.paused.read_info().track("display-1")
        rows = read_times(self.paused.times_path(track))
        kept = rows[rows["kept"] == KEPT]
        after = int(np.argmax(kept["pts_ns"] > PAUSE + 6 * S))
        self.assertTrue(track_index(self.paused.track_path(track)).packets["key"][after])

    def test_in_take_time_the_pause_is_closed_and_the_cues_are_there(self):
        info = self.paused.read_info()
        said = follow_cues(self.paused, info.rig_values)
        self.assertEqual((said.paused, said.left_out), (((PAUSE, GO_ON),), ()))
        self.assertEqual([mark.text for mark in said.marks], ["again"])
        found = inspect_take(self.paused)
        self.assertEqual(found["pauses"], [{"at_s": 1.0, "length_s": 8.346}])
        self.assertEqual([c["what"] for c in found["cues"]], ["scene", "pause", "go-on", "mark"])
        self.assertEqual(found["take_s"], 2.654)

    def test_the_shortest_pauses_cost_nothing(self):
        cues = (ToScene(0, "scene-1"), Pause(4 * S), GoOn(4 * S + 1), Pause(6 * S), GoOn(9 * S))
        short = taken("short-pauses", cues)
        for name in ("headset", "display-1"):
            track = short.read_info().track(name)
            rows = [read_times(f.times_path(track)) for f in (short, self.whole)]
            np.testing.assert_array_equal(*rows)

    def taken_with_headset_away(self, name, from_ns, until_ns):
        studio = Studio(5)
        faults = [
            Happening(at_ns, partial(studio.set_fault, "headset", "unplugged", away))
            for at_ns, away in ((from_ns, True), (until_ns, False))
        ]
        path = ROOT / name
        shutil.rmtree(path, ignore_errors=True)
        info = record_take(studio, quick_rig(), path, LENGTH, cues=CUES, happenings=faults)
        return TakeFolder(path), info

    def test_of_a_device_that_is_back_after_a_pause_it_is_told_what_is_missing_since_its_end(self):
        _, info = self.taken_with_headset_away("away-over-a-pause", 8 * S, GO_ON + S)
        self.assertEqual(info.state, COMPLETE)
        (note,) = info.notes
        self.assertRegex(note, r"Headset: 1\.[01] s are missing before 0:10")

    def test_a_device_that_is_away_in_a_pause_comes_back_in_step(self):
        folder, info = self.taken_with_headset_away("unplugged-in-pause", 7 * S, 8 * S)
        self.assertEqual(info.notes, ())
        _, whole = self.opened(self.whole)
        _, sync = self.opened(folder)
        heard = []
        for f, s in ((self.whole, whole), (folder, sync)):
            sound, raw = open_sound(f, info.track("headset"), s)
            heard.append(sound.read(round(9.6 * 48_000), 48_000)[0])
            raw.close()
        match = np.correlate(heard[1][1000:-1000], heard[0], "full")
        late = int(np.argmax(match)) - (heard[0].size - 1) + 1000
        self.assertLessEqual(abs(late), 48)
