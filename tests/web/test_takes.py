"""What is changed of a take afterwards, from the form to the folder, and what is drawn of it."""

import json
import shutil
import threading
from dataclasses import replace
from unittest import mock

import numpy as np
import simplejpeg
from asgiref.sync import async_to_sync, sync_to_async
from django.db import connection, transaction
from django.http import QueryDict
from django.test import TransactionTestCase
from django.urls import reverse
from django.utils import timezone

from kettle_core.program.afterwards import Afterwards
from kettle_core.program.cues import GoOn, Hide, Mark, Pause, Place, Show, ToScene
from kettle_core.program.running_order import OrderStep, RunningOrder
from kettle_core.rig.changes import with_format
from kettle_core.rig.format import Format
from kettle_media.player.messages import Message
from kettle_media.running_order import order_to_dict
from kettle_media.survey.early import EarlyLook
from kettle_media.survey.losses import Gap
from kettle_media.survey.paths import SurveyPaths
from kettle_media.survey.sounds import Clip
from kettle_media.survey.survey import SURVEY, survey_take
from kettle_media.take.afterwards import read_afterwards, write_afterwards
from kettle_media.take.cues import write_cues
from kettle_media.take.folder import TakeFolder
from kettle_web.frame.editing import edit
from kettle_web.library.services import delete_takes
from kettle_web.models import Job, Take, Tutorial
from kettle_web.takes.overview import overview
from kettle_web.takes.own_rig import own_rig
from kettle_web.takes.players import PlayerLine
from kettle_web.takes.reading import look_after_takes
from kettle_web.takes.services import change_take
from tests.fixtures import copied_take
from tests.web.page_socket import PageSocket
from tests.web.test_pages import PageCase
from tests.web.working import do_jobs

S = 10**9


class TakeCase(PageCase):
    def setUp(self):
        super().setUp()
        self.folder = TakeFolder(self.put_take("changed"))
        # A second of the four is a pause.
        write_cues(self.folder, (ToScene(0, "scene-1"), Pause(S), GoOn(2 * S)))
        look_after_takes()
        self.take = Take.objects.get()

    def change(self, **values):
        seen = {"Kettle-Seen": str(self.take.revision)}
        address = reverse("change-take", args=[self.take.pk])
        answer = self.client.post(address, values, headers=seen)
        self.take.refresh_from_db()
        return answer

    def overview(self):
        return self.client.get(reverse("take-overview", args=[self.take.pk])).json()

    @property
    def cues(self):
        found = read_afterwards(self.folder)[0].cues or ()
        return [cue for cue in found if cue.at_ns and not isinstance(cue, Pause | GoOn)]


class Changes(TakeCase):
    def test_a_mark_lies_where_the_play_head_was_pauses_closed(self):
        self.change(part="mark", at_s="1.5", text="fold line")
        self.assertEqual(self.cues, [Mark(2_500_000_000, "fold line")])
        told = self.overview()["marks"]
        self.assertEqual([(m["at_s"], m["text"]) for m in told], [(1.5, "fold line")])
        # Four seconds were recorded, of which one is a pause.
        self.assertEqual(self.take.duration_s, 3.0)
        self.change(part="name", cue=told[0]["id"], text="fold lines")
        self.change(part="move", cue=told[0]["id"], at_s="0.5")
        self.assertEqual(self.cues, [Mark(S // 2, "fold lines")])
        self.change(part="out", cue=self.overview()["marks"][0]["id"])
        self.assertEqual(self.take.values, Afterwards())
        self.assertFalse(self.folder.afterwards_path.exists())

    def test_a_picture_is_hidden_for_a_stretch_and_the_program_is_made_anew(self):
        do_jobs()
        self.take.refresh_from_db()
        self.assertEqual(self.take.composed_revision, 1)
        before = self.folder.program_path.read_bytes()
        self.change(part="hide", input="webcam-1", at_s="0.5", until_s="2")
        self.assertEqual(self.cues, [Hide(S // 2, "webcam-1"), Show(3 * S, "webcam-1")])
        self.assertTrue(self.take.has_program)
        page = self.client.get(self.take.get_absolute_url())
        self.assertContains(page, "Desk webcam hidden")
        self.assertContains(page, "waits to be composed")
        do_jobs()
        self.take.refresh_from_db()
        self.assertEqual(self.take.composed_revision, self.take.revision)
        self.assertNotEqual(self.folder.program_path.read_bytes(), before)
        self.change(part="original")
        self.assertEqual(self.take.values, Afterwards())
        self.assertEqual(self.take.program_job.state, "waiting")

    def test_marks_compose_nothing_and_changes_made_meanwhile_end_what_is_composed(self):
        do_jobs()
        done = Job.objects.count()
        self.change(part="mark", at_s="1")
        self.assertEqual(Job.objects.count(), done)
        self.change(part="mute", input="headset", at_s="1")
        waiting = Job.objects.get(state="waiting")
        Job.objects.filter(pk=waiting.pk).update(state="running")
        self.change(part="nudge", track="headset", ms="12.5")
        waiting.refresh_from_db()
        self.assertTrue(waiting.cancel_wanted)
        self.assertEqual(Job.objects.filter(state="waiting").count(), 1)

    def test_a_track_is_moved_by_steps_or_a_typed_number_and_put_back(self):
        self.change(part="nudge", track="headset", ms="-12.5")
        self.change(part="nudge", track="headset", by="1")
        self.assertEqual(self.take.values.nudge_ms("headset"), -11.5)
        headset = next(t for t in self.overview()["tracks"] if t["name"] == "headset")
        self.assertEqual(headset["shift_s"], -0.0115)
        self.change(part="nudge", track="headset", ms="0")
        self.assertEqual(self.take.values, Afterwards())

    def test_a_picture_is_gone_nearer_to_for_a_stretch_and_back(self):
        asked = {"input": "display-1", "times": "2", "length_ms": "300"}
        self.change(part="near", at_s="0.5", until_s="2", follows="on", **asked)
        first, *_, last = self.cues
        self.assertEqual((first.at_ns, first.length_ms, last.at_ns), (S // 2, 300, 3 * S))
        self.assertEqual((first.part.width, last.part), (960, None))
        page = self.client.get(self.take.get_absolute_url())
        self.assertContains(page, "2 × as near for 1.5 s")
        self.change(part="far", input="display-1", at_s="1")
        self.assertIn(2 * S, [cue.at_ns for cue in self.cues if cue.part is None])
        self.change(part="original")
        before = self.cues
        answer = self.change(part="near", at_s="0.5", **{**asked, "length_ms": "9000"})
        self.assertContains(answer, "within 0 to 5000 ms", status_code=400)
        self.assertEqual(self.cues, before)
        self.change(part="near", at_s="0.5", **{**asked, "times": "px", "input": "webcam-1"})
        self.assertEqual({cue.input for cue in self.cues}, {"webcam-1"})

    def test_a_scene_is_shown_for_a_stretch(self):
        self.change(part="scene", scene="scene-2", at_s="0.5", until_s="0.9")
        shown = [(row["at_s"], row["words"]) for row in self.overview()["scenes"]]
        expected = [(0.0, "Sheet and me"), (0.5, "At the bench"), (0.9, "Sheet and me")]
        self.assertEqual(shown, expected)

    def test_a_layer_is_placed_for_a_stretch_and_lies_as_it_did_after_it(self):
        def seen(at_s):
            return self.client.get(
                reverse("take-layers", args=[self.take.pk]), {"at_s": at_s}
            ).json()

        before = seen(0.2)
        layer = before["layers"][-1]
        values = {"part": "place", "scene": before["scene"], "layer": layer["id"], "turn": "0"}
        values |= {"left": "20", "top": "-30", "width": "480", "height": "270"}
        self.change(**values, at_s="0.5", until_s="2")
        self.assertEqual([c.at_ns for c in self.cues], [S // 2, 3 * S])
        boxes = [seen(at_s)["layers"][-1]["box"] for at_s in (0.2, 1, 2.5)]
        moved = {"left": 20, "top": -30, "width": 480, "height": 270}
        self.assertEqual(boxes, [layer["box"], moved, layer["box"]])
        page = self.client.get(self.take.get_absolute_url())
        self.assertContains(page, f"{layer['name']} placed for 1.5 s")
        for wrong in ({"width": "0"}, {"left": "x"}, {"scene": "nowhere"}, {"layer": "none"}):
            self.assertEqual(self.change(**{**values, **wrong}, at_s="1").status_code, 400)
        self.assertEqual(len(self.cues), 2)

    def test_a_layer_that_was_dragged_in_the_take_is_one_row(self):
        layer = self.rig.values.scene("scene-1").layers[-1]
        boxes = [replace(layer.box, left=layer.box.left - 9 * n) for n in range(5)]
        drag = [Place(S // 2 + n * S // 20, "scene-1", layer.id, b) for n, b in enumerate(boxes)]
        write_cues(self.folder, [ToScene(0, "scene-1"), *drag, Pause(S), GoOn(2 * S)])
        page = self.client.get(self.take.get_absolute_url())
        self.assertContains(page, "<span>Desk webcam dragged, 0.2 s</span>")
        (row,) = [cue for cue in self.overview()["cues"] if cue["do"] == "place"]
        self.change(part="move", cue=row["id"], at_s="1.5")
        self.assertEqual(self.cues, [replace(cue, at_ns=cue.at_ns + 2 * S) for cue in drag])
        self.change(part="out", cue=self.overview()["cues"][-1]["id"])
        self.assertEqual(self.cues, [])

    def test_again_from_here_begins_with_scene_step_and_format_as_they_were(self):
        again = reverse("record-again", args=[self.rig.slug])
        order = RunningOrder((OrderStep("a", "Why"), OrderStep("b", "Lay out")))
        Tutorial.objects.filter(pk=self.take.tutorial_id).update(document=order_to_dict(order))
        small = Format(1280, 720)
        edit(self.rig, lambda rig: (with_format(rig, small), "smaller"))
        values = {"tutorial": self.take.tutorial_id, "scene": "scene-2", "step": "Lay out"}
        page = self.client.post(again, {**values, "take": self.take.pk}, follow=True)
        self.assertContains(page, '<option value="scene-2" selected>')
        self.assertContains(page, '<option value="b" selected>')
        self.assertContains(page, "The format is as in")
        self.rig.refresh_from_db()
        self.assertEqual(self.rig.values.format.frame_size, (640, 360))
        self.assertEqual(self.rig.tutorial_id, self.take.tutorial_id)
        # One that is gone from the rig by now, or nothing at all: as always.
        page = self.client.post(again, {"scene": "nowhere"}, follow=True)
        self.assertContains(page, '<option value="scene-1" selected>')

    def test_what_cannot_be_is_refused_in_words_and_nothing_is_changed(self):
        survey_take(self.folder)
        for values, words in (
            ({"part": "mark", "at_s": "99"}, "lies outside of the take"),
            ({"part": "mark", "at_s": "x"}, "Give a time within the take"),
            ({"part": "mark", "at_s": "nan"}, "Give a time within the take"),
            ({"part": "mark", "at_s": "1", "text": "x" * 201}, "at most 200 characters"),
            ({"part": "hide", "input": "nobody", "at_s": "1"}, "This input is not in the take"),
            ({"part": "scene", "scene": "nowhere", "at_s": "1"}, "This scene is not in the take"),
            ({"part": "nudge", "track": "headset", "ms": "6000"}, "at most 5000 ms"),
            ({"part": "nudge", "track": "headset", "by": "a"}, "Reload the page"),
            ({"part": "nudge", "track": "nobody", "ms": "1"}, "not in the take"),
            ({"part": "out", "cue": "mark@5"}, "is gone from the take"),
            ({"part": "out", "cue": "pause@1000000000"}, "A pause stays"),
            ({"part": "nothing"}, "Reload the page"),
        ):
            with self.subTest(values):
                self.assertContains(self.change(**values), words, status_code=400)
        self.assertEqual(self.take.revision, 1)

    def test_two_pages_change_one_take_and_the_newest_change_is_taken_back(self):
        self.change(part="mark", at_s="1", text="one")
        old, self.take.revision = self.take.revision, 1
        self.change(part="mark", at_s="1.5", text="two")
        self.assertEqual([cue.text for cue in self.cues], ["one", "two"])
        undo = reverse("undo-take", args=[self.take.pk])
        self.assertContains(self.client.post(undo, {"seen": old}), "two", status_code=400)
        self.take.refresh_from_db()
        self.client.post(undo, {"seen": self.take.revision})
        self.assertEqual([cue.text for cue in self.cues], ["one"])
        self.client.post(undo, {"again": "1"})
        self.assertEqual([cue.text for cue in self.cues], ["one", "two"])

    def test_an_old_page_of_a_deleted_take_is_told_so(self):
        self.client.post(reverse("delete-take", args=[self.take.pk]))
        address = reverse("change-take", args=[self.take.pk])
        told = self.client.post(
            address, {"part": "mark", "at_s": "1"}, headers={"Kettle-In-Place": "1"}
        )
        self.assertEqual(told.status_code, 400)
        self.assertIn("was deleted meanwhile", told.json()["error"])
        self.client.post(reverse("bring-back"), {"key": self.take.key})
        self.change(part="mark", at_s="1")
        self.assertEqual(len(self.cues), 1)

    def test_a_folder_that_will_not_have_it_leaves_all_as_it_was(self):
        self.folder.afterwards_path.mkdir()
        answer = self.change(part="mark", at_s="1")
        self.assertContains(answer, "Nothing was changed", status_code=400)
        self.assertEqual((self.take.revision, self.take.values), (1, Afterwards()))

    def test_what_was_changed_elsewhere_comes_with_the_folder(self):
        found = TakeFolder(self.put_take("from-elsewhere"))
        changed = Afterwards((ToScene(0, "scene-2"), Mark(S, "kept")))
        write_afterwards(found, changed)
        look_after_takes()
        self.assertEqual(Take.objects.get(folder="from-elsewhere").values, changed)


class AtOnce(TransactionTestCase):
    def test_two_who_change_a_take_at_once_are_both_in_the_folder(self):
        folder = copied_take("changed-at-once")
        root = {"tutorial": Tutorial.objects.create(), "root": str(folder.path.parent)}
        Take.objects.create(folder=folder.path.name, name="t", recorded_at=timezone.now(), **root)
        together, failed = threading.Barrier(2), []

        def mark(first):
            try:
                together.wait(30)
                for number in range(5):
                    post = QueryDict(f"part=mark&at_s={first + number / 10}&text=m{first}{number}")
                    change_take(take=Take.objects.get(), post=post, seen=None)
            except Exception as error:
                failed.append(error)
            finally:
                connection.close()

        threads = [threading.Thread(target=mark, args=(first,)) for first in (1, 2)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(60)
        self.assertEqual(failed, [])
        kept = [c.text for c in read_afterwards(folder)[0].cues if isinstance(c, Mark)]
        self.assertEqual(kept, [f"m{first}{n}" for first in (1, 2) for n in range(5)])
        self.assertEqual(Take.objects.get().values, read_afterwards(folder)[0])


class Card(TakeCase):
    def test_what_moves_on_a_card_is_small(self):
        address = reverse("take-card", args=[self.take.pk])
        shutil.rmtree(SurveyPaths(self.folder).folder, ignore_errors=True)
        self.assertContains(self.client.get(address), "not looked at yet", status_code=400)
        survey_take(self.folder)
        strip = self.client.get(address)
        height, width, _ = simplejpeg.decode_jpeg(strip.content).shape
        self.assertEqual((width % 10, width // 10 > height), (0, True))
        self.assertLess(len(strip.content), 30_000)
        sheet = next(SurveyPaths(self.folder).folder.glob("display-1-00.jpg"))
        sheet.write_bytes(sheet.read_bytes()[:200])
        self.assertContains(self.client.get(address), "is damaged", status_code=400)


class Overview(TakeCase):
    def test_a_take_that_was_looked_at_has_waveforms_and_pictures(self):
        do_jobs()
        told = self.overview()
        self.assertEqual(told["length_s"], 3.0)
        self.assertEqual(told["pieces"], [[0.0, 0.0], [1.0, 2.0]])
        self.assertEqual((told["ink"], told["surveyed"]), ("headset", True))
        headset = next(t for t in told["tracks"] if t["name"] == "headset")
        finest = headset["levels"][0]
        part = self.client.get(
            headset["levels_at"], headers={"range": f"bytes=0-{6 * finest['count'] - 1}"}
        )
        self.assertEqual(int(part["Content-Length"]), 6 * finest["count"])
        asked = {"step_ns": 100_000, "first": 5000, "count": 64}
        self.assertEqual(len(self.client.get(headset["fine_at"], asked).content), 6 * 64)
        for odd in ({"count": 9999}, {"step_ns": "x"}, {"first": -1}):
            self.assertEqual(self.client.get(headset["fine_at"], asked | odd).status_code, 400)
        webcam = next(t for t in told["tracks"] if t["name"] == "webcam-1")
        sheet = self.client.get(webcam["sheets"]["at"][0])
        self.assertEqual((sheet.status_code, sheet["Content-Type"]), (200, "image/jpeg"))
        odd = webcam["sheets"]["at"][0].replace("-00", "-99999")
        self.assertEqual(self.client.get(odd).status_code, 200)
        self.assertEqual(self.client.get(odd.replace("webcam-1", "passwd")).status_code, 404)
        page = self.client.get(self.take.get_absolute_url())
        self.assertContains(page, "Voice over background")
        self.assertContains(page, "dB while it speaks")

    def test_every_track_has_a_verdict_with_its_times(self):
        page = self.client.get(self.take.get_absolute_url())
        self.assertContains(page, "not looked at yet", 4)
        self.folder.track_path(self.folder.read_info().track("webcam-1")).write_bytes(b"no film")
        survey = survey_take(self.folder)
        # As if the headset had been away for half a second after the pause, and had clipped.
        odd = [
            replace(t, gaps=(Gap(2 * S, 2 * S + S // 2),), clips=(Clip(3 * S, 7),))
            if t.name == "headset"
            else replace(t, gaps=(Gap(0, S // 5, 6), Gap(S // 2, S, 3)))
            if t.name == "display-1"
            else t
            for t in survey.tracks
        ]
        report = SURVEY.write(replace(survey, tracks=tuple(odd)))
        SurveyPaths(self.folder).report.write_text(report)
        page = self.client.get(self.take.get_absolute_url())
        for words in (
            "0.5 s missing at 0:01 · clips at 1 places, first at 0:02",
            "9 frames lost at 0:00, 0:00",
            "The track webcam-1.mkv cannot be used",
        ):
            self.assertContains(page, words)
        self.assertContains(page, "<td>whole</td>", 1)

    def test_ten_thousand_marks_are_all_on_the_lines_and_the_first_ones_listed(self):
        cues = (ToScene(0, "scene-1"), *(Mark(n * 100_000, f"m{n}") for n in range(1, 10_001)))
        with transaction.atomic():
            edit(self.take, lambda _: (Afterwards(cues), "many"))
        page = self.client.get(self.take.get_absolute_url())
        self.assertContains(page, "9800 more marks are on the lines")
        self.assertEqual(len(self.overview()["marks"]), 10_000)
        self.change(part="mark", at_s="2.5", text="one more")
        self.assertIn(Mark(2_500_000_000, "one more"), self.cues)

    def test_before_that_it_says_what_is_known_and_a_damaged_take_says_why(self):
        told = self.overview()
        self.assertEqual((told["surveyed"], told["length_s"]), (False, 3.0))
        # What was kept while it was recorded is shown in its place.
        folder = TakeFolder(self.take.path)
        look = EarlyLook()
        look.hear("headset", np.full((1, 480), 0.5, np.float32), 0)
        look.see("display-1", np.full((72, 64), 100, np.uint8), 0)
        look.write(folder, folder.read_info())
        tracks = {t["name"]: t for t in self.overview()["tracks"]}
        self.assertEqual(self.client.get(tracks["headset"]["levels_at"]).status_code, 200)
        self.assertEqual(self.client.get(tracks["display-1"]["sheets"]["at"][0]).status_code, 200)
        self.assertEqual(tracks["headset"]["fine_at"], "")
        self.take.refresh_from_db()
        self.assertTrue(self.take.has_poster)
        self.assertEqual(told["tracks"][0]["knots"], [[0.0, 0.0, 1.0]])
        shutil.rmtree(self.folder.path)
        gone = self.client.get(reverse("take-overview", args=[self.take.pk]))
        self.assertEqual(gone.status_code, 400)
        self.assertEqual(self.client.get(self.take.get_absolute_url()).status_code, 200)
        self.assertIn("is not a take", json.dumps(gone.content.decode()))


class Playing(TransactionTestCase):
    def setUp(self):
        folder = copied_take("played-by-page")
        root = {"tutorial": Tutorial.objects.create(), "root": str(folder.path.parent)}
        fields = {"folder": folder.path.name, "name": "t", "recorded_at": timezone.now()}
        self.take = Take.objects.create(**fields, **root)

    def play(self, *orders):
        """The kinds of what comes for orders, one each, and the last message."""

        async def plays():
            socket = PageSocket(f"/live/takes/{self.take.pk}/")
            await socket.connect()
            found = []
            for order in orders:
                await socket.send_json({"rate": 1, "playing": False, **order})
                while True:
                    said = await socket.receive_output(30)
                    if said["type"] == "websocket.close":
                        return found, said["code"]
                    message = Message.unpacked(said["bytes"])
                    if message.kind in (Message.PICTURE, Message.TROUBLE):
                        found.append(message)
                        break
            await socket.disconnect()
            return found, None

        self.addCleanup(PlayerLine.nest.end)
        # It would close this test's database, which is in memory.
        with mock.patch("channels.db.close_old_connections"):
            return async_to_sync(plays)()

    def test_a_page_is_shown_what_was_changed_before_it_is_composed(self):
        first, _ = self.play({"turn": 1, "at": 2.5})
        post = QueryDict("part=hide&at_s=0&input=webcam-1")
        change_take(take=self.take, post=post, seen=None)
        self.assertEqual(overview(self.take)["program"], "")
        again, _ = self.play({"turn": 1, "at": 2.5}, {"turn": 2, "at": 2.5, "anew": True})
        self.assertEqual([m.turn for m in again], [1, 2])
        self.assertNotEqual(first[0].body, again[0].body)
        self.assertEqual(PlayerLine.running, [])

    def test_what_no_page_says_ends_the_connection(self):
        for order in ({"turn": -1, "at": 0}, {"turn": 1, "at": float("nan")},
                      {"turn": 1}, {"turn": 1, "at": 0, "rate": 9},
                      {"turn": 1, "at": 0, "rate": 1, "loop": [2, 1]},
                      {"turn": 1, "at": 0, "late": -1},
                      {"turn": 1, "at": 0, "late": "nan"}):  # fmt: skip
            self.assertEqual(self.play(order)[1], 4400)

    def test_a_deleted_take_is_told_and_looked_for_no_more(self):
        Take.objects.update(state=Take.State.COMPLETE)
        delete_takes(takes=[Take.objects.get()])
        found, _ = self.play({"turn": 1, "at": 0})
        self.assertIn("was deleted", found[0].body.decode())

    def test_an_open_page_is_told_what_others_change(self):
        async def news(*changes):
            socket = PageSocket(f"/live/takes/{self.take.pk}/news/")
            await socket.connect()
            found = []
            for change in (lambda: None, *changes):
                await sync_to_async(change, thread_sensitive=False)()
                found.append(json.loads((await socket.receive_output(20))["text"]))
            await socket.disconnect()
            return found

        def mark():
            post = QueryDict("part=mark&at_s=1&text=there")
            change_take(take=Take.objects.get(), post=post, seen=None)

        def own():
            rig = own_rig(take=Take.objects.get())
            edit(rig, lambda values: (with_format(values, Format(1280, 720)), "smaller"))

        with mock.patch("channels.db.close_old_connections"):
            first, marked, again = async_to_sync(news)(mark, own)
        self.assertEqual((first["kind"], first["values"]["revision"]), ("changed", 1))
        self.assertEqual(marked["values"]["revision"], 2)
        self.assertIn("there", marked["values"]["words"])
        self.assertEqual(again["kind"], "again")
