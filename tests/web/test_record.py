"""The Record page without an engine of its own: what it asks for, what it says, its keys."""

import json
from dataclasses import replace
from unittest import mock

from django.test import TestCase
from django.urls import reverse

from kettle_core.errors import EngineError
from kettle_core.rig.changes import with_crosspoint
from kettle_media.rig_document import rig_to_dict
from kettle_web.models import Key, Rig, Take, Tutorial
from kettle_web.record.keys import ACTIONS, TAKEN, keys, wrong_keys
from kettle_web.rigs.services import make_demo_rig
from tests.web.test_inputs import FakeEngine

ORDER = {"steps": [{"id": "step-1", "title": "Fold it", "scene": "at the BENCH", "target_s": 90}]}


class RecordingEngine(FakeEngine):
    """Takes every order; `refuses` is what it says instead."""

    refuses = ""

    def ask(self, do, **values):
        if do in ("devices", "status", "surroundings"):
            return super().ask(do, **values)
        self.asked.append((do, values))
        if self.refuses:
            raise EngineError(self.refuses)
        return {"scene": "scene-2", "at_ns": 5}


class RecordCase(TestCase):
    def setUp(self):
        self.rig = make_demo_rig()
        self.tutorial = Tutorial.objects.create(name="Folding", document=ORDER)
        Rig.objects.update(tutorial=self.tutorial)
        self.engine = RecordingEngine()
        client = mock.patch("kettle_web.frame.engine.EngineClient", lambda _data: self.engine)
        self.enterContext(client)

    def post(self, name, /, **values):
        address = reverse(name, args=["demo"])
        return self.client.post(address, values, headers={"accept": "application/json"})

    def asked(self):
        return self.engine.asked[-1]


class Before(RecordCase):
    def test_the_summary_has_every_track_with_what_it_costs_and_where_it_goes(self):
        page = self.client.get(reverse("record", args=["demo"]))
        for words in ("Main display", "Desk webcam", "Headset", "System audio", "FLAC 24 bit",
                      "CRF 18", "Record take 1", "bench-rig-20"):  # fmt: skip
            self.assertContains(page, words)
        self.assertNotContains(page, "Overhead webcam</th>")
        self.assertEqual(page.context["number"], 1)
        self.assertGreater(page.context["room_minutes"], 0)
        self.assertContains(page, "“Title” has no voice.")
        voiceless = with_crosspoint(self.rig.values, "headset", "heard", "scene-1", False)
        Rig.objects.update(document=rig_to_dict(voiceless))
        page = self.client.get(reverse("record", args=["demo"]))
        self.assertContains(page, "“Sheet and me” has no voice.")

    def test_a_take_begins_with_the_scene_the_steps_and_the_tutorials_name(self):
        answer = self.post("record-start", countdown_s=0, scene="scene-3")
        do, values = self.asked()
        self.assertEqual((do, values["scene"], values["countdown_s"]), ("record", "scene-3", 0))
        self.assertEqual(values["steps"], [{"id": "step-1", "name": "Fold it", "scene": "scene-2"}])
        take = Take.objects.get(pk=answer.json()["take"])
        self.assertEqual((take.name, take.tutorial), ("Folding, take 1", self.tutorial))

    def test_wrong_fields_say_so_and_nothing_is_recorded(self):
        for values, words in (
            ({"countdown_s": 11}, "at most 10 s"),
            ({"countdown_s": ""}, "is empty"),
            ({"countdown_s": 1, "scene": "attic"}, "This scene is gone"),
        ):
            answer = self.post("record-start", **values)
            self.assertEqual(answer.status_code, 400)
            self.assertIn(words, answer.json()["error"])
        self.assertEqual(self.engine.asked, [])
        self.assertFalse(Take.objects.exists())

    def test_another_tutorial_is_chosen_and_one_that_is_gone_is_said(self):
        other = Tutorial.objects.create(name="Sewing")
        self.client.post(reverse("record-tutorial", args=["demo"]), {"tutorial": other.pk})
        self.rig.refresh_from_db()
        self.assertEqual(self.rig.tutorial, other)
        answer = self.post("record-tutorial", tutorial=999)
        self.assertIn("This tutorial is gone", answer.json()["error"])

    def test_a_rig_without_tracks_says_what_to_do(self):
        none = [replace(i, recorded=False) for i in self.rig.values.inputs]
        Rig.objects.update(document=rig_to_dict(replace(self.rig.values, inputs=tuple(none))))
        page = self.client.get(reverse("record", args=["demo"]))
        self.assertContains(page, "Nothing has a track.")


class Changing(RecordCase):
    def test_a_button_becomes_a_cue_with_an_id(self):
        for cue, what, fields in (
            ("scene scene-2", "scene", {"scene": "scene-2"}),
            ("hide display-1", "hide", {"input": "display-1"}),
            ("unmute headset", "unmute", {"input": "headset"}),
            ("close-up 3", "close-up", {"times": 3.0}),
            ("mark good", "mark", {"text": "good"}),
            ("pause", "pause", {}),
        ):
            answer = self.post("record-cue", cue=cue, id="abc")
            self.assertEqual(self.asked(), ("cue", {"id": "abc", "what": what, **fields}))
            self.assertEqual(answer.json()["at_ns"], 5)
        self.post("record-cue", cue="step step-1")
        do, values = self.asked()
        self.assertEqual((do, values["step"]), ("step", "step-1"))
        self.assertTrue(values["id"])

    def test_words_of_a_mark_follow_and_a_layer_is_placed(self):
        self.post("record-cue", cue="mark", text=" fold line ", at_ns="41")
        self.assertEqual(self.asked()[1]["text"], "fold line")
        self.assertEqual(self.asked()[1]["at_ns"], 41)
        box = {"left": 1, "top": 2, "width": 30, "height": 40}
        self.post("record-cue", cue="place layer-2", scene="scene-1", box=json.dumps(box), turn=0)
        found = self.asked()[1]
        self.assertEqual((found["layer"], found["box"], found["turn"]), ("layer-2", box, 0))

    def test_what_can_not_be_is_said_and_what_the_engine_refuses_too(self):
        for values in (
            {"cue": "close-up near"},
            {"cue": "mark", "at_ns": "now"},
            {"cue": "place layer-2", "box": "{", "turn": "0"},
        ):
            answer = self.post("record-cue", **values)
            self.assertEqual(answer.status_code, 400)
            self.assertIn("can't be changed so", answer.json()["error"])
        self.assertEqual(self.engine.asked, [])
        self.engine.refuses = "Nothing is being recorded, so nothing was changed."
        answer = self.post("record-cue", cue="pause")
        self.assertEqual((answer.status_code, answer.json()["error"]), (503, self.engine.refuses))
        # Without a script the page says it.
        page = self.client.post(reverse("record-cue", args=["demo"]), {"cue": "pause"}, follow=True)
        self.assertContains(page, "Nothing is being recorded")

    def test_given_up_a_take_leaves_no_row(self):
        self.post("record-start", countdown_s=0)
        self.post("record-give-up")
        self.assertEqual(self.asked()[0], "give_up")
        self.assertFalse(Take.objects.exists())
        self.post("record-start", countdown_s=0)
        self.post("record-start-over")
        self.assertEqual(self.asked()[0], "start_over")
        self.assertEqual(Take.objects.get().state, Take.State.RECORDING)


class Keys(RecordCase):
    def change(self, **wanted):
        address = reverse("record-keys", args=["demo"])
        return self.client.post(address, {**keys(), **wanted}, follow=True)

    def test_the_first_keys_clash_with_nothing(self):
        self.assertEqual(wrong_keys(keys()), {})

    def test_a_key_is_changed_and_shown_where_it_is_pressed(self):
        self.change(pause="X")
        self.assertEqual(keys()["pause"], "x")
        page = self.client.get(reverse("record", args=["demo"]))
        self.assertContains(page, 'data-key="x"')
        self.change(pause="p")
        self.assertFalse(Key.objects.exists())

    def test_two_may_change_places(self):
        self.change(pause="s", stop="p")
        self.assertEqual((keys()["pause"], keys()["stop"]), ("s", "p"))
        self.client.post(reverse("record-keys", args=["demo"]), {"first": "1"})
        self.assertEqual(keys()["pause"], "p")

    def test_clashes_are_said_at_the_key_and_nothing_is_kept(self):
        page = self.change(pause="s", mark="1")
        self.assertContains(page, "S is also the key of “Stop and keep the take”", status_code=400)
        self.assertContains(page, "Digits call scenes", status_code=400)
        self.assertFalse(Key.objects.exists())
        for key in (*TAKEN, "ß", "ctrl+s", "", "é"):
            with self.subTest(key):
                self.assertIn("pause", wrong_keys({**keys(), "pause": key}))

    def test_the_sheet_has_every_action(self):
        page = self.client.get(reverse("record-keys", args=["demo"]))
        for action in ACTIONS:
            self.assertContains(page, action.words)


class Tutorials(RecordCase):
    def save(self, **values):
        return self.client.post(reverse("save-tutorial", args=[self.tutorial.pk]), values)

    def steps(self):
        self.tutorial.refresh_from_db()
        return [(s.title, s.target_s, s.scene) for s in self.tutorial.values.steps]

    def test_steps_are_made_changed_moved_deleted_and_that_is_taken_back(self):
        self.save(part="new", title="Sew", target_s="3:30", scene="Title", notes="Wax it.")
        self.save(part="step", step="step-1", title="Fold", target_s="2", scene="", notes="")
        self.assertEqual(self.steps(), [("Fold", 120, ""), ("Sew", 210, "Title")])
        self.save(down="step-1")
        self.save(part="move", step="step-1", place="0")
        self.save(up="step-2")
        self.assertEqual([s[0] for s in self.steps()], ["Sew", "Fold"])
        self.save(delete="step-2")
        self.assertEqual([s[0] for s in self.steps()], ["Fold"])
        self.client.post(reverse("undo-tutorial", args=[self.tutorial.pk]))
        self.assertEqual([s[0] for s in self.steps()], ["Sew", "Fold"])
        page = self.client.get(self.tutorial.get_absolute_url())
        self.assertContains(page, "5:30 planned")

    def test_an_outline_takes_their_place_or_follows(self):
        self.save(part="outline", outline="- Title [0:20]\n    Hello.\n- End", how="after")
        self.assertEqual([s[0] for s in self.steps()], ["Fold it", "Title", "End"])
        self.save(part="outline", outline="One\nTwo", how="place")
        self.assertEqual([s[0] for s in self.steps()], ["One", "Two"])

    def test_what_it_shows_is_kept_with_its_lines(self):
        page = self.save(part="description", description="For beginners.\r\nNo glue.")
        self.assertContains(self.client.get(page.url), "For beginners.\nNo glue.</textarea>")
        self.save(part="description", description="")
        self.assertEqual(Tutorial.objects.get(pk=self.tutorial.pk).description, "")

    def test_what_is_wrong_is_said_at_its_field_and_nothing_is_lost(self):
        for values, words in (
            ({"part": "step", "step": "step-1", "title": " "}, "A step needs a title"),
            ({"part": "step", "step": "step-1", "title": "A", "target_s": "3:99"}, "such as 3:30"),
            ({"part": "new", "title": "A", "target_s": "999"}, "at most 6 hours"),
            ({"part": "new", "title": "x" * 121}, "at most 120 characters"),
            ({"part": "outline", "outline": "Step\n" * 10_000}, "at most 200 steps"),
            ({"part": "outline", "outline": ""}, "The outline is empty"),
            ({"part": "name", "name": ""}, "A tutorial needs a name"),
            ({"part": "description", "description": "x" * 2001}, "at most 2000 characters"),
        ):
            page = self.save(**values)
            self.assertContains(page, words, status_code=400)
        self.assertContains(
            self.save(part="step", step="step-9", title="A"), "not in the running", status_code=400
        )
        self.assertContains(self.save(part="dance"), "Reload the page", status_code=400)
        self.assertEqual(self.steps(), [("Fold it", 90, "at the BENCH")])

    def test_two_pages_change_different_steps_and_both_are_kept(self):
        self.save(part="new", title="Sew")
        self.save(part="step", step="step-1", title="Fold", untouched="target_s scene notes")
        self.save(part="step", step="step-2", title="Sew two", untouched="target_s scene notes")
        self.assertEqual(self.steps(), [("Fold", 90, "at the BENCH"), ("Sew two", 0, "")])

    def test_the_engine_hears_of_a_change_in_a_take(self):
        self.post("record-start", countdown_s=0)
        self.save(part="new", title="Sew", scene="Title")
        do, values = self.asked()
        self.assertEqual(do, "set_steps")
        self.assertEqual(values["steps"][-1], {"id": "step-2", "name": "Sew", "scene": "scene-3"})

    def test_a_new_one_has_a_name(self):
        page = self.client.post(reverse("new-tutorial"), {"name": "Casing in"}, follow=True)
        self.assertContains(page, "Casing in")
        page = self.client.post(reverse("new-tutorial"), {"name": " "}, follow=True)
        self.assertContains(page, "A tutorial needs a name")
