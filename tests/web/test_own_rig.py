"""A take's scenes and sound changed after it was recorded, on the pages of a rig."""

import json
from unittest import mock

from django.urls import reverse
from django.utils import timezone

from kettle_media.take.rig_now import rig_now
from kettle_web.library.bin import empty_bin
from kettle_web.library.services import delete_takes
from kettle_web.models import ChangedRow, Job, Rig, Take
from kettle_web.rigs.engines import TakeViewers, engine_of
from kettle_web.takes.overview import overview
from tests.web.test_sound import CHAIN
from tests.web.test_takes import TakeCase


class OwnRig(TakeCase):
    def setUp(self):
        super().setUp()
        self.client.post(reverse("change-take-rig", args=[self.take.pk]))
        self.own = Rig.with_takes.get(of_take=self.take)
        self.info = self.folder.read_info()

    def gain(self, gain_db):
        """Set the headset's gain on the Sound page."""
        sound = reverse("save-sound", args=[self.own.slug, "headset"])
        page = reverse("sound-of", args=[self.own.slug, "headset"])
        sent_by = {"Referer": f"http://testserver{page}"}
        return self.client.post(sound, {**CHAIN, "gain_db": str(gain_db)}, headers=sent_by)

    def now(self):
        return rig_now(self.folder, self.info)[0]

    def test_its_pages_are_those_of_a_rig_and_it_is_nowhere_else(self):
        for page in ("scenes", "sound"):
            answer = self.client.get(reverse(page, args=[self.own.slug]), follow=True)
            self.assertContains(answer, self.take.name)
            self.assertContains(answer, "data-take-bar")
        for page in ("record", "format", "patch-sheet", "add-input"):
            answer = self.client.get(reverse(page, args=[self.own.slug]))
            self.assertEqual(answer.status_code, 404, page)
        self.assertNotContains(self.client.get(reverse("start")), f"/rigs/{self.own.slug}/")
        again = self.client.post(reverse("change-take-rig", args=[self.take.pk]), {"sound": "1"})
        self.assertRedirects(again, reverse("sound", args=[self.own.slug]), target_status_code=302)
        self.assertEqual(Rig.with_takes.filter(of_take=self.take).count(), 1)

    def test_what_is_changed_is_in_the_folder_and_composed_again_until_it_is_taken_back(self):
        self.take.refresh_from_db()
        before, plan = self.take.program_job, overview(self.take)["plan"]
        Job.objects.filter(pk=before.pk).update(state=Job.State.DONE)
        self.gain(-6)
        self.assertEqual(self.now().input("headset").tone.gain_db, -6)
        self.assertEqual(self.info.rig_values.input("headset").tone.gain_db, 0)
        self.take.refresh_from_db()
        self.assertNotEqual(self.take.program_job, before)
        self.assertEqual(self.take.program_job.state, Job.State.WAITING)
        self.assertNotEqual(overview(self.take)["plan"], plan)
        self.client.post(reverse("undo", args=[self.own.slug]))
        self.assertFalse(self.folder.rig_path.exists())
        self.gain(-9)
        self.client.post(reverse("take-rig-as-recorded", args=[self.take.pk]))
        self.assertEqual(self.now(), self.info.rig_values)
        self.client.post(reverse("undo", args=[self.own.slug]))
        self.assertEqual(self.now().input("headset").tone.gain_db, -9)

    def test_it_goes_with_its_take(self):
        self.gain(-6)
        self.assertTrue(ChangedRow.objects.filter(row=self.own.key).exists())
        delete_takes(takes=[Take.objects.get()])
        self.assertEqual(self.gain(-9).status_code, 404)
        self.assertEqual(self.now().input("headset").tone.gain_db, -6)
        key = self.own.key
        empty_bin(until=timezone.now())
        self.assertFalse(Rig.with_deleted.filter(pk=self.own.pk).exists())
        self.assertFalse(ChangedRow.objects.filter(row=key).exists())

    def test_a_folder_that_will_not_have_it_leaves_all_as_it_was(self):
        full = OSError(28, "No space left on device")
        with mock.patch("kettle_media.take.rig_now.replace_file", side_effect=full):
            answer = self.client.get(self.gain(-6).url, follow=True)
        self.assertContains(answer, "Nothing was changed")
        self.own.refresh_from_db()
        self.assertEqual(self.own.values.input("headset").tone.gain_db, 0)
        self.assertEqual(self.now(), self.info.rig_values)

    def test_a_changed_rig_that_is_damaged_or_of_other_inputs_is_told_and_left_out(self):
        document = dict(self.own.document)
        for text in ("{", json.dumps({**document, "inputs": document["inputs"][:1], "scenes": []})):
            self.folder.rig_path.write_text(text)
            found, told = rig_now(self.folder, self.info)
            self.assertEqual(found, self.info.rig_values)
            self.assertIn("rig.json is left out", told[0])

    def test_pages_ask_a_viewer_of_the_take_in_place_of_the_engine(self):
        self.addCleanup(TakeViewers.end)
        shows = engine_of(self.own)
        shows.ask("open_rig", rig=self.own.document, owner=self.own.slug)
        shows.ask("head", at=1.0, playing=False)
        self.assertEqual(shows.ask("status")["rig"], self.own.slug)
        heard = shows.ask("hear", input="headset", name="own", seconds=3)
        self.assertAlmostEqual(heard["seconds"], 3, delta=0.1)
        scene = self.own.values.default_scene
        colour = {"scene": scene.id, "layer": scene.layers[0].id, "x": 100, "y": 100}
        self.assertRegex(shows.ask("pick_colour", **colour), "^#[0-9a-f]{6}$")
        balance = self.client.get(reverse("sound-balance", args=[self.own.slug])).json()
        self.assertIn("verdict", balance)
        with self.assertRaisesRegex(Exception, "can't be asked of a take"):
            shows.ask("record")
        self.folder.info_path.unlink()
        TakeViewers.end()
        with self.assertRaisesRegex(Exception, "can't be shown"):
            engine_of(self.own)
