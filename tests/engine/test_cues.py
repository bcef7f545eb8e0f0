"""A take that is changed while it is recorded, by a real engine, over its line of JSON."""

import json
import os
import shutil
import signal
import socket
import threading
import time
import unittest
from contextlib import suppress
from dataclasses import replace

from kettle_cli import say
from kettle_core.program.cues import CloseUp, GoOn, Hide, Mark, Pause, Show, Step, ToScene
from kettle_core.scene.layout import Box
from kettle_engine.addresses import line_path
from kettle_engine.cueing import KEPT_CUES
from kettle_engine.line_door import MOST_CALLERS
from kettle_media.rig_document import rig_to_dict
from kettle_media.survey.early import read_early
from kettle_media.survey.paths import SurveyPaths
from kettle_media.survey.survey import read_level
from kettle_media.take.cues import read_cues
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import REPAIRED
from tests.engine.process import EngineProcess, but_drops
from tests.fixtures import ROOT, small_rig
from tests.small_disk import small_disk


def quick_rig():
    """The demo rig without its webcam, so that many tests can run beside each other."""
    rig = small_rig()
    return replace(rig, inputs=tuple(replace(i, on=i.id != "webcam-1") for i in rig.inputs))


STEPS = [
    {"id": "a", "name": "Title and greeting", "scene": "scene-1"},
    {"id": "b", "name": "Fold it at the bench", "scene": "scene-2"},
]


class Cueing(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.data = ROOT / "cueing"
        shutil.rmtree(cls.data, ignore_errors=True)
        cls.data.mkdir()
        cls.engine = EngineProcess(cls, cls.data)

    def line(self, **values):
        return say.ask(line_path(self.data), values)

    def said(self, *words):
        """What a word comes to; fails where it is refused."""
        answer = say.ask(line_path(self.data), say.command(list(words)))
        self.assertNotIn("error", answer)
        return answer["ok"]

    def record(self, folder, **more):
        path = self.data / "takes" / folder
        shutil.rmtree(path, ignore_errors=True)
        self.engine.client.ask(
            "record", rig=rig_to_dict(quick_rig()), folder=folder, steps=STEPS, **more
        )
        self.engine.until(lambda: self.take().get("elapsed_s", 0) > 0.2)
        return TakeFolder(path)

    def take(self):
        return self.engine.client.ask("status").get("take", {})

    def until_ended(self):
        status = self.engine.client.ask
        return self.engine.until(lambda: status("status").get("last_take"), 90)

    def test_all_that_a_lesson_needs_is_kept_as_data_without_a_page(self):
        folder = self.record("lesson", scene="At the bench")
        self.said("step")
        self.said("mark", "good", "greeting")
        self.said("hide", "main display")
        self.said("show", "display-1")
        self.assertEqual(self.said("close-up")["near"], ["display-1"])
        self.assertEqual(self.said("close-up", "3")["near"], ["display-1"])
        self.assertEqual(self.said("close-up", "3")["near"], [])
        self.assertTrue(self.said("pause")["paused"])
        self.assertFalse(self.said("go-on")["paused"])
        self.assertEqual(self.said("step")["scene"], "scene-2")
        now = self.said("status")
        self.assertEqual((now["take"]["step_id"], now["take"]["marks"]), ("b", 1))
        self.assertIn("no step after", self.line(do="step")["error"])
        self.said("stop")
        self.assertEqual(but_drops(self.until_ended()["notes"]), [])
        cues, told = read_cues(folder)
        self.assertEqual(told, [])
        self.assertEqual(
            [type(c) for c in cues],
            [
                *(ToScene, Step, ToScene, Mark, Hide, Show, CloseUp, CloseUp, CloseUp),
                *(Pause, GoOn, Step, ToScene),
            ],
        )
        self.assertEqual([c.at_ns for c in cues], sorted(c.at_ns for c in cues))
        self.assertEqual((cues[0].scene, cues[1].step), ("scene-2", "Title and greeting"))
        self.assertEqual(cues[3].text, "good greeting")
        self.assertEqual(cues[6].part.width, 960)
        self.assertEqual((cues[7].part.width, cues[8].part), (640, None))
        self.assertTrue((folder.path / "health.jsonl").exists())
        # What was seen and heard of it is there at once, without a survey.
        early = self.engine.until(lambda: read_early(folder, folder.read_info()))
        self.assertGreater(read_level(folder, early.track("headset"), early=True)["most"].max(), 0)
        self.assertTrue(early.track("display-1").sheets)
        self.assertTrue(SurveyPaths(folder, early=True).poster.is_file())

    def test_what_cannot_be_is_refused_in_words_and_the_take_goes_on(self):
        self.assertIn("Nothing is being recorded", self.line(do="cue", what="pause")["error"])
        folder = self.record("refusing")
        for values, words in (
            ({"what": "scene", "scene": "Attic"}, "no scene “Attic”"),
            ({"what": "hide", "input": "headset"}, "can be muted"),
            ({"what": "go-on"}, "not paused"),
            ({"what": "dance"}, "no cue “dance”"),
            ({"what": "mark", "text": "x" * 300}, "at most 200"),
            ({"what": "close-up", "times": 9}, "2 or 3"),
            ({"what": "mark", "text": 7}, "should be a text"),
        ):
            with self.subTest(words):
                self.assertIn(words, self.line(do="cue", **values)["error"])
        started = self.line(do="start")
        self.assertIn("recorded already", started["error"])
        self.said("stop")
        self.until_ended()
        self.assertEqual(len(read_cues(folder)[0]), 1)

    def test_a_command_that_is_sent_twice_counts_once(self):
        folder = self.record("twice")
        asked = {"do": "cue", "what": "mark", "text": "once", "id": "the-same"}
        answers = []

        def send():
            answers.append(say.ask(line_path(self.data), asked))

        threads = [threading.Thread(target=send) for _ in range(6)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(len({json.dumps(a) for a in answers}), 1)
        answers.append(say.ask(line_path(self.data), asked))
        self.said("stop")
        self.until_ended()
        self.assertEqual([c.text for c in read_cues(folder)[0][1:]], ["once"])

    def test_a_line_that_is_none_ends_nothing(self):
        with socket.socket(socket.AF_UNIX) as line:
            line.connect(str(line_path(self.data)))
            line.sendall(b"[1]\n" + b"nonsense\n" + b'{"do": "status"}\n')
            with line.makefile("rb") as file:
                answers = [json.loads(file.readline()) for _ in range(3)]
        self.assertIn("does not know this command", answers[0]["error"])
        self.assertIn("does not know this command", answers[1]["error"])
        self.assertIn("state", answers[2]["ok"])

    def test_a_device_that_is_away_is_said_while_it_is(self):
        self.record("away")
        fault = {"device": "headset", "fault": "unplugged"}
        self.engine.client.ask("fault", **fault, on=True)
        self.engine.until(lambda: self.take().get("away") == ["headset"])
        self.assertRegex(self.take()["trouble"][0], r"^Headset is away since 0:0\d: silence is")
        self.engine.client.ask("fault", **fault, on=False)
        self.engine.until(lambda: self.take().get("away") == [])
        self.assertFalse(any("is away since" in x for x in self.take()["trouble"]))
        self.said("stop")
        self.assertRegex(
            but_drops(self.until_ended()["notes"])[0], r"^Headset: \d\.\d s are missing"
        )

    def test_callers_who_say_nothing_keep_nobody_out(self):
        silent = [socket.socket(socket.AF_UNIX) for _ in range(2 * MOST_CALLERS)]
        for caller in silent:
            self.addCleanup(caller.close)
            caller.connect(str(line_path(self.data)))
        # One that has said something is kept rather than those.
        with socket.socket(socket.AF_UNIX) as line, line.makefile("rb") as file:
            line.connect(str(line_path(self.data)))
            for caller in silent[:MOST_CALLERS]:
                line.sendall(b'{"do": "status"}\n')
                self.assertIn("state", json.loads(file.readline())["ok"])
                with suppress(OSError):
                    caller.sendall(b"{")
        self.assertIn("state", self.line(do="status")["ok"])

    def test_cues_on_a_full_disk_are_told_and_the_take_ends_in_order(self):
        with small_disk(ROOT / f"cues-{os.getpid()}", 60) as data:
            self.data = data
            limits = {"KETTLE_RESERVE_BYTES": "1000000"}
            self.engine = EngineProcess(self, data, limits)
            folder = self.record("full")
            self.said("mark", "before")
            filling = (data / "filling").open("wb")
            with suppress(OSError):
                while True:
                    filling.write(bytes(1 << 16))
                    filling.flush()
            last = self.until_ended()
            self.assertRegex(
                " ".join(last["notes"]), "nearly full|writing failed|cannot be written"
            )
            (data / "filling").unlink()
            filling.close()
            self.assertEqual([c.text for c in read_cues(folder)[0][1:]], ["before"])
            self.assertIn("Nothing is being recorded", self.line(do="cue", what="pause")["error"])
            self.engine.end()

    def test_a_recorder_that_is_killed_loses_no_cue_and_stays_paused(self):
        folder = self.record("killed")
        # More than the engine itself remembers.
        before = [str(number) for number in range(KEPT_CUES + 20)]
        for text in before:
            self.engine.client.ask("cue", what="mark", text=text)
        self.said("pause")
        pid = self.engine.client.ask("hello")["pids"]["recorder"]
        os.kill(pid, signal.SIGKILL)
        # Nobody is there to write it down just now.
        self.said("mark", "while it is gone")
        self.engine.until(lambda: self.engine.client.ask("hello")["pids"].get("recorder") != pid)
        self.engine.until(lambda: self.take().get("paused"))
        self.said("go-on")
        time.sleep(0.5)
        self.said("stop")
        self.until_ended()
        cues = read_cues(folder)[0]
        self.assertEqual(
            [getattr(c, "text", c.do) for c in cues],
            ["scene", *before, "pause", "while it is gone", "go-on"],
        )

    def test_given_up_nothing_is_left_and_started_over_it_is_another_take(self):
        folder = self.record("over", scene="scene-1", first_step="b")
        begun = self.take()
        # The scene that was asked for counts, not the step's.
        self.assertEqual((begun["step_id"], begun["scene"]), ("b", "scene-1"))
        self.assertIn("no step after", self.line(do="step")["error"])
        self.said("mark", "first try")
        first = folder.read_info().id
        self.said("start-over", "--yes")
        self.engine.until(lambda: self.take().get("elapsed_s", 0) > 0.2 and folder.path.exists())
        self.assertNotEqual(folder.read_info().id, first)
        self.said("give-up", "--yes")
        self.assertFalse(folder.path.exists())
        self.assertEqual(self.engine.client.ask("status")["state"], "watching")
        self.assertIsNone(self.engine.client.ask("status")["last_take"])
        self.engine.until(lambda: not list(folder.path.parent.glob(".gone-*")))

    def test_a_folder_that_is_taken_away_is_told_and_what_it_has_is_kept(self):
        folder = self.record("taken-away")
        elsewhere = folder.path.with_name("elsewhere")
        shutil.rmtree(elsewhere, ignore_errors=True)
        folder.path.rename(elsewhere)
        self.said("mark", "after that")
        self.engine.until(lambda: any("cannot be written" in x for x in self.take()["trouble"]))
        self.said("stop")
        last = self.until_ended()
        self.assertEqual(last["state"], "unfinished")
        self.assertIn("end cannot be written", last["notes"][-1])
        # The engine finds it and brings it into order by itself.
        there = TakeFolder(elsewhere)
        self.engine.until(lambda: there.read_info().state == REPAIRED)
        repaired = there.read_info()
        self.assertEqual({t.name for t in repaired.tracks if t.damaged}, set())
        self.assertGreater(repaired.duration_ns, 3 * 10**8)
        self.assertEqual(self.engine.client.ask("status")["state"], "watching")

    def test_it_starts_alone_and_names_what_it_records(self):
        alone = ROOT / "cueing-alone"
        shutil.rmtree(alone, ignore_errors=True)
        alone.mkdir()
        # One that knows no rig yet.
        self.data, self.engine = alone, EngineProcess(self, alone)
        self.assertIn("No rig", self.line(do="start")["error"])
        self.engine.client.ask("open_rig", rig=rig_to_dict(quick_rig()))
        self.said("start", "Title")
        self.engine.until(lambda: self.take().get("elapsed_s", 0) > 0.2)
        self.assertEqual(self.take()["scene"], "scene-3")
        self.said("stop")
        last = self.until_ended()
        self.assertEqual(TakeFolder(self.data / "takes" / last["folder"]).read_info().state,
                         "complete")  # fmt: skip

    def test_a_close_up_follows_the_pointer(self):
        folder = self.record("follows")
        self.said("close-up")
        # The studio's pointer wanders over its sheet.
        self.engine.until(lambda: len(read_cues(folder)[0]) > 2, 60)
        self.said("stop")
        self.until_ended()
        _, first, then, *_ = read_cues(folder)[0]
        self.assertEqual((first.input, then.input), ("display-1", "display-1"))
        self.assertNotEqual(first.part, then.part)
        self.assertTrue(Box(0, 0, 1920, 1080).holds(then.part))
        self.assertGreater(then.at_ns - first.at_ns, 10**9)
