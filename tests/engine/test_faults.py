"""Faults tried for real: killed and hanging processes, full disks, devices that lie."""

import json
import os
import re
import signal
import subprocess
import time
import unittest
from contextlib import suppress
from dataclasses import replace

import numpy as np
import zmq
from django.test import tag

from kettle_core.errors import EngineError
from kettle_core.program.cues import Mark
from kettle_core.rig.rig import Input
from kettle_engine.addresses import command_address
from kettle_media.rig_document import rig_to_dict
from kettle_media.take.cues import read_cues
from kettle_media.take.folder import TakeFolder
from kettle_media.take.inspect import inspect_take
from kettle_media.take.packets import read_packets
from kettle_media.take.times import FILLED, read_times
from kettle_media.take.track_reading import read_sound
from tests.engine import odd_driver
from tests.engine.process import EngineProcess, but_drops
from tests.fixtures import ROOT, face_rig, studio_input
from tests.small_disk import small_disk

ODD = {"KETTLE_DRIVERS": "odd=tests.engine.odd_driver:odd_driver"}


def odd_input(name, **more):
    mode = odd_driver.KINDS[name]
    kind = "microphone" if mode == odd_driver.VOICE else "display"
    return Input(name, name.title(), kind, f"odd:{name}", mode, **more)


def go_on(pid):
    with suppress(ProcessLookupError):
        os.kill(pid, signal.SIGCONT)


class FaultCase(unittest.TestCase):
    environment = ODD

    def setUp(self):
        self.data = ROOT / f"data-{self._testMethodName}"
        self.folder = TakeFolder(self.data / "takes" / "t1")

    def start(self, **more):
        self.engine = EngineProcess(self, self.data, {**self.environment, **more})
        self.ask = self.engine.client.ask

    def record(self, rig, seconds=1.0, **more):
        self.ask("record", rig=rig_to_dict(rig), folder="t1", **more)
        return self.engine.has_recorded(seconds)

    def pid(self, name):
        return self.engine.until(lambda: self.ask("hello")["pids"].get(name))

    def kill(self, name):
        """Kill a process and wait until there is another one."""
        pid = self.pid(name)
        os.kill(pid, signal.SIGKILL)
        self.engine.until(lambda: self.ask("hello")["pids"].get(name) not in (pid, 0, None))

    def stop(self):
        """Stop the take and give what is told of its end."""
        self.ask("stop")
        return self.engine.until(lambda: self.ask("status")["last_take"])

    def journal(self):
        return [json.loads(line) for line in self.folder.journal_path.read_text().splitlines()]

    def told(self, what):
        return [line for line in self.journal() if line["what"] == what]

    def rows(self):
        return {row["name"]: row for row in inspect_take(self.folder)["tracks"]}

    def is_known_as_lost(self, name):
        """Whether the engine knows that a device is lost, or would ask it anew."""
        status = self.ask("status")
        return status["state"] == "idle" or (status["inputs"].get(name, {}).get("state") == "fault")

    def trouble(self):
        return " ".join(self.ask("status").get("take", {}).get("trouble", []))


@tag("realtime")
class KilledProcesses(FaultCase):
    def test_a_killed_recorder_is_started_again_and_the_take_is_whole(self):
        self.start()
        self.record(face_rig(), 3)
        for seconds in (4, 5.5):
            self.kill("recorder")
            self.engine.has_recorded(seconds)
        last = self.stop()
        self.assertEqual(last["state"], "complete", last)
        info = self.folder.read_info()
        self.assertEqual(len(list(self.folder.path.glob("tracks/*.mkv"))), 2)
        for track in info.tracks:
            rows = read_times(self.folder.times_path(track))
            length_s = rows["pts_ns"][-1] / 1e9
            self.assertGreater(length_s, info.duration_ns / 1e9 - 0.2, track.name)
            # What it had not written when it died was still in the ring; of pictures a busy
            # machine drops some, which is told.
            frame_ns = 1e9 / float(track.mode.fps) if track.is_picture else 0
            gaps_ns = np.diff(rows["pts_ns"]) - rows["dropped"][1:] * frame_ns
            self.assertLess(gaps_ns.max(), 0.5e9, track.name)
            kept = rows[rows["kept"] > 0]
            if track.is_picture:
                self.assertEqual(len(read_packets(self.folder.track_path(track))), len(kept))
            else:
                samples = sum(b.shape[1] for b in read_sound(self.folder.track_path(track)))
                self.assertAlmostEqual(samples / 48_000, kept["samples"].sum() / 48_000, delta=0.1)
        self.assertEqual(len(self.told("recorder started again")), 2)

    def test_recording_goes_on_while_the_viewer_is_killed_ten_times(self):
        self.start()
        self.record(face_rig(), 1)
        for _ in range(10):
            self.kill("viewer")
        last = self.stop()
        self.assertEqual((last["state"], but_drops(last["notes"])), ("complete", []))
        tracks = self.told("finished")[0]["written_and_dropped"]
        self.assertEqual(tracks["headset"][1], 0)
        self.assertEqual(len(self.told("process ended")), 10)

    def test_processes_that_stand_still_hold_up_nobody_else(self):
        self.start()
        self.record(face_rig(), 1)
        stopped = [self.pid("viewer"), self.pid("recorder")]
        for pid in stopped:
            os.kill(pid, signal.SIGSTOP)
            self.addCleanup(go_on, pid)
        # More than a line to a process holds: 300 kB to either.
        for number in range(120):
            self.ask("cue", what="mark", text=f"{number:03d}" * 60)
            self.ask("set_steps", steps=[{"id": "a", "name": "x" * 100, "scene": ""}] * 20)
        os.kill(stopped[1], signal.SIGCONT)
        last = self.stop()
        self.assertEqual(last["state"], "complete")
        cues = [cue for cue in read_cues(self.folder)[0] if isinstance(cue, Mark)]
        self.assertEqual([int(cue.text[:3]) for cue in cues], list(range(120)))
        self.assertEqual(self.told("finished")[0]["written_and_dropped"]["headset"][1], 0)

    def test_killed_devices_cost_a_gap_that_is_silent_and_told(self):
        self.start()
        self.record(face_rig(), 2)
        self.kill("devices studio")
        self.engine.until(lambda: "are missing before 0:0" in self.trouble())
        self.engine.has_recorded(6)
        last = self.stop()
        self.assertEqual(last["state"], "complete", last["notes"])
        (note,) = but_drops(last["notes"])
        # One that is back within a twentieth of a second is not told; all others are.
        names = {item.id: item.name for item in face_rig().inputs}
        away = {names[gap["input"]] for gap in self.told("missing")}
        self.assertEqual(set(re.split(", | and ", note.partition(":")[0])), away)
        missing = r"^[^:]+: (up to )?[0-9.]+ s are missing before 0:0[2-9], (its|their) device"
        self.assertRegex(note, missing)
        told = self.told("process ended")[0]
        self.assertEqual(told["process"], "devices studio")
        info = self.folder.read_info()
        rows = read_times(self.folder.times_path(info.track("headset")))
        filled = rows[rows["kept"] == FILLED]
        self.assertEqual(len(filled), 1)
        self.assertAlmostEqual(filled["pts_ns"][0], told["at_ns"], delta=0.6e9)
        seconds = rows["samples"].sum() / 48_000
        self.assertAlmostEqual(seconds, info.duration_ns / 1e9, delta=0.3)

    def test_the_end_of_a_take_waits_for_what_was_captured_before_it(self):
        self.start()
        self.record(face_rig(), 2)
        host = self.pid("devices studio")
        os.kill(host, signal.SIGSTOP)
        time.sleep(0.2)
        self.ask("stop")
        # On a busy machine that takes so long that who stands still is ended meanwhile.
        with suppress(ProcessLookupError):
            os.kill(host, signal.SIGCONT)
        last = self.engine.until(lambda: self.ask("status")["last_take"])
        self.assertEqual(last["state"], "complete", last["notes"])
        if self.told("process ended"):
            return  # nothing was captured meanwhile that could be waited for
        self.assertEqual(but_drops(last["notes"]), [])
        info = self.folder.read_info()
        counts = self.told("finished")[0]["written_and_dropped"]
        for track in info.tracks:
            rows = read_times(self.folder.times_path(track))
            # Where the machine stood still for longer than it was made to, frames are overwritten;
            # those of the end are told, though none comes after them.
            at_end = counts[track.name][1] - rows["dropped"].sum()
            frame_ns = 1e9 / float(track.mode.fps) if track.is_picture else 0
            end_ns = rows["pts_ns"][-1] + at_end * frame_ns
            self.assertGreater(end_ns, info.duration_ns - 0.1e9, track.name)


@tag("realtime")
class OddDevices(FaultCase):
    def test_a_driver_that_hangs_crashes_or_eats_memory_costs_only_its_own_devices_a_gap(self):
        why = "process ended"
        for name in ("hangs", "crashes", "eats"):
            with self.subTest(name):
                self.data = ROOT / f"data-odd-{name}"
                self.folder = TakeFolder(self.data / "takes" / "t1")
                self.start()
                self.record(face_rig(odd_input(name)), 1)
                self.engine.until(lambda: self.told(why))
                self.engine.until(lambda: self.told("process started again"))
                self.assertEqual(self.told(why)[0]["process"], "devices odd")
                last = self.stop()
                self.assertEqual(last["state"], "complete")
                finished = self.told("finished")[0]["written_and_dropped"]
                self.assertEqual(finished["headset"][1], 0)
                self.assertGreater(finished[name][0], 30)

    def test_a_device_that_fails_or_gives_what_it_should_not_is_told_and_the_rest_goes_on(self):
        self.start()
        self.record(face_rig(odd_input("fails"), odd_input("wrong-shape"), odd_input("beeps")), 1)

        def faults():
            lines = self.told("device fault")
            found = {line["input"]: line["sentence"] for line in lines}
            return found if len(found) == 2 else None

        found = self.engine.until(faults)
        self.assertIn("a driver's mistake", found["fails"])
        self.assertIn("gives uint8 of 10 × 64, which is no 64 × 48 px", found["wrong-shape"])
        self.assertEqual(self.stop()["state"], "complete")
        rows = self.rows()
        self.assertGreater(rows["wrong-shape"]["frames"], 30)
        self.assertAlmostEqual(
            rows["beeps"]["duration_s"], rows["headset"]["duration_s"], delta=0.3
        )

    def test_an_input_without_a_track_that_never_opens_blocks_nothing(self):
        self.start()
        never = odd_input("never-opens", recorded=False)
        self.assertGreater(self.record(face_rig(never, odd_input("well")), 1), 1)
        self.assertEqual(self.stop()["state"], "complete")

    def test_a_driver_that_takes_its_time_to_begin_is_waited_for(self):
        self.start(KETTLE_DRIVERS="odd=tests.engine.odd_driver:late_driver")
        self.assertGreater(self.record(face_rig(odd_input("well")), 1), 1)
        self.assertEqual(self.stop()["state"], "complete")

    def test_a_take_says_for_what_it_waits_and_that_it_was_not_begun(self):
        self.start()
        self.ask("open_rig", rig=rig_to_dict(face_rig()))
        self.ask("record", rig=rig_to_dict(face_rig(odd_input("never-opens"))), folder="t1")
        self.engine.until(lambda: self.ask("status").get("waits_for") == ["Never-Opens"])
        last = self.engine.until(lambda: self.ask("status")["last_take"])
        self.assertEqual(last["state"], "failed")
        self.assertRegex(last["notes"][0], "Never-Opens cannot be recorded.*has not opened within")
        self.assertFalse(self.folder.path.exists())

    def test_a_command_whose_time_is_over_is_not_done_any_more(self):
        self.start()
        socket = zmq.Context.instance().socket(zmq.DEALER)
        self.addCleanup(socket.close, 0)
        socket.connect(command_address(self.data))
        late = {"do": "record", "rig": rig_to_dict(face_rig()), "folder": "t1",
                "deadline_ns": time.monotonic_ns() - 1}  # fmt: skip
        socket.send_multipart([b"", json.dumps(late).encode()])
        # Whatever comes after it is answered, so it has been heard.
        self.engine.until(self.engine.answers)
        time.sleep(0.5)
        self.assertIn(self.ask("status")["state"], ("idle", "watching"))
        self.assertFalse(self.folder.path.exists())


@tag("realtime")
class FullDisks(FaultCase):
    def test_a_full_disk_ends_a_take_in_a_state_that_is_told(self):
        with small_disk(self.data, 6):
            self.start(KETTLE_RESERVE_BYTES="0")
            self.record(face_rig(), 0.5)
            last = self.engine.until(lambda: self.ask("status")["last_take"])
            self.assertEqual(last["state"], "complete", last)
            self.assertIn("No space left", " ".join(last["notes"]))
            self.assertEqual(self.ask("status")["state"], "watching")
            self.assertEqual(self.folder.read_info().state, "complete")
            self.engine.end()

    def test_a_journal_that_cannot_be_written_is_told_and_the_take_goes_on(self):
        self.start()
        self.record(face_rig(), 1)
        self.folder.journal_path.rename(self.data / "away")
        self.folder.journal_path.mkdir()
        self.kill("viewer")
        self.engine.until(lambda: "journal.jsonl cannot be written" in self.trouble())
        self.assertEqual(self.ask("status")["state"], "recording")
        last = self.stop()
        self.assertEqual(last["state"], "complete")
        self.assertIn("journal.jsonl could not be written", " ".join(last["notes"]))

    def test_a_take_is_repaired_once_there_is_room(self):
        self.start()
        self.record(face_rig(), 3)
        # Parts must be joined, which needs room.
        self.kill("recorder")
        self.engine.has_recorded(5)
        self.engine.kill_all()
        size = sum(p.stat().st_size for p in self.folder.path.rglob("*") if p.is_file())
        disk = ROOT / "full-repair"
        with small_disk(disk, -(-size // 10**6) + 1):
            takes = disk / "takes"
            subprocess.run(["cp", "-r", str(self.data / "takes"), str(takes)], check=True)
            filler = disk / "filler"
            room = os.statvfs(disk)
            filler.write_bytes(b"\0" * (room.f_bavail * room.f_frsize))
            self.engine = EngineProcess(self, disk)
            ask = self.engine.client.ask

            def message():
                return ask("status").get("repairing", {}).get("message", "")

            self.assertIn("MB are needed", self.engine.until(message))
            self.assertEqual(TakeFolder(takes / "t1").read_info().state, "recording")
            filler.unlink()
            subprocess.run(["mount", "-o", "remount,size=100m", str(disk)], check=True)
            self.engine.until(lambda: ask("hello")["repaired"])
            folder = TakeFolder(takes / "t1")
            self.assertEqual(folder.read_info().state, "repaired")
            self.assertEqual(len(list(folder.path.glob("tracks/*.mkv"))), 2)
            self.engine.end()


@tag("realtime")
class Refused(FaultCase):
    def refusal(self, rig):
        """Why a take could not be recorded; of a device that opens slowly it is told later."""
        try:
            self.ask("record", rig=rig_to_dict(rig), folder="t1")
        except EngineError as error:
            return str(error)
        ended = self.engine.until(lambda: self.ask("status")["last_take"])
        self.assertEqual(ended["state"], "failed")
        return ended["notes"][0]

    def test_what_is_not_there_is_named(self):
        self.start()
        gone = replace(studio_input("headset"), id="gone", name="Gone", device="headset-9")
        said = self.refusal(face_rig(gone))
        self.assertIn("Gone cannot be recorded, so nothing was. Plug it", said)
        self.ask("fault", device="headset", fault="busy", on=True)
        # A take that begins before anybody has noticed is recorded without it.
        self.engine.until(lambda: self.is_known_as_lost("headset"))
        self.assertRegex(
            self.refusal(face_rig()),
            "cannot be recorded, so nothing was. .* is used by another program. See to it, or turn",
        )
        self.assertFalse(self.folder.path.exists())
