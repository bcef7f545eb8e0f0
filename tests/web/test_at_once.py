"""Two who change the same rig: nothing is lost, nothing newer is taken back unseen."""

import threading
import zlib
from concurrent.futures import ThreadPoolExecutor

from django.db import connection
from django.test import Client, TransactionTestCase
from django.urls import reverse
from django.utils import timezone

from kettle_core.errors import RigError
from kettle_web.frame import editing, history
from kettle_web.models import Change, ChangedRow, Rig, Take, Tutorial
from kettle_web.rigs.services import make_demo_rig


class AtOnce(TransactionTestCase):
    def setUp(self):
        self.rig = make_demo_rig()

    def all_at_once(self, requests):
        """Send requests from as many threads at one moment; gives the answers."""
        start = threading.Barrier(len(requests))

        def send(request):
            address, fields, headers = request
            try:
                client = Client()
                start.wait(20)
                return client.post(address, fields, headers=headers)
            finally:
                connection.close()

        with ThreadPoolExecutor(len(requests)) as threads:
            return list(threads.map(send, requests))

    def values(self):
        self.rig.refresh_from_db()
        return self.rig.values

    def rename(self, input_id, name):
        return reverse("save-input", args=["demo", input_id]), {"part": "name", "name": name}, {}

    def test_eight_changes_at_once_are_all_kept(self):
        for turn in range(3):
            wanted = {i.id: f"{i.name} {turn}" for i in self.values().inputs[:8]}
            before = self.rig.revision
            answers = self.all_at_once([self.rename(*pair) for pair in wanted.items()])
            self.assertEqual([a.status_code for a in answers], [302] * len(wanted))
            names = {i.id: i.name for i in self.values().inputs if i.id in wanted}
            self.assertEqual(names, wanted)
            self.assertEqual(self.rig.revision, before + len(wanted))

    def test_two_undo_at_once_take_one_change_back_and_the_other_is_told(self):
        for name in ("One", "Two"):
            self.client.post(*self.rename("headset", name)[:2])
        seen = self.values() and self.rig.revision
        undo = reverse("undo", args=["demo"]), {"seen": seen}, {"Kettle-In-Place": "1"}
        answers = self.all_at_once([undo, undo])
        self.assertEqual(sorted(a.status_code for a in answers), [302, 400])
        refused = next(a for a in answers if a.status_code == 400).json()
        self.assertIn("so nothing was taken back", refused["error"])
        self.assertEqual(self.values().input("headset").name, "One")

    def test_an_old_page_takes_back_nothing_newer_and_is_told_what_it_is(self):
        self.client.post(*self.rename("headset", "Mine")[:2])
        seen = self.values() and self.rig.revision
        self.client.post(*self.rename("webcam-1", "Theirs")[:2])
        page = self.client.post(reverse("undo", args=["demo"]), {"seen": seen}, follow=True)
        self.assertContains(page, "“Desk webcam: renamed” was changed, so nothing was taken back")
        self.assertEqual(self.values().input("webcam-1").name, "Theirs")
        newest = {"seen": self.rig.revision}
        self.client.post(reverse("undo", args=["demo"]), newest)
        self.assertEqual(self.values().input("webcam-1").name, "Desk webcam")
        self.assertEqual(self.values().input("headset").name, "Mine")

    def test_switches_of_two_old_pages_do_not_invert_each_other(self):
        off = {"cross": "headset recorded off"}
        for _ in range(2):
            self.client.post(reverse("set-crosspoint", args=["demo"]), off)
            self.assertFalse(self.values().input("headset").recorded)
        scene = reverse("save-scene", args=["demo", "scene-1"])
        for _ in range(2):
            self.client.post(scene, {"part": "shown off", "layer": ["webcam-1"]})
            self.assertFalse(self.values().scenes[0].layers[1].shown)

    def test_fields_that_nobody_touched_keep_what_another_page_set(self):
        scene = reverse("save-scene", args=["demo", "scene-1"])
        box = self.values().scenes[0].layers[1].box
        place = {"part": "place", "layer": "webcam-1", **vars(box), "turn": 0, "opacity": 100}
        self.client.post(scene, {**place, "left": 10})
        untouched = "left width height turn opacity keep_aspect"
        self.client.post(scene, {**place, "top": 20, "untouched": untouched})
        now = self.values().scenes[0].layers[1].box
        self.assertEqual((now.left, now.top, now.width), (10, 20, box.width))

    def test_a_change_to_what_is_gone_is_refused_with_what_happened(self):
        seen = self.rig.revision
        self.client.post(reverse("delete-input", args=["demo", "tablet"]))
        cross = {"cross": "tablet recorded off", "seen": seen}
        answer = self.client.post(
            reverse("set-crosspoint", args=["demo"]), cross, headers={"Kettle-In-Place": "1"}
        )
        self.assertEqual(answer.status_code, 400)
        self.assertIn("no input “tablet”", answer.json()["error"])
        self.assertIn("Meanwhile “Tablet deleted” was changed on another page", str(answer.json()))

    def test_history_is_zipped_bounded_and_the_newest_change_can_be_undone(self):
        def renamed(values):
            raise RigError("refused")

        with self.assertRaises(RigError):
            editing.edit(self.rig, renamed)
        self.assertEqual(Change.objects.count(), 0)
        with self.settings():
            kept, history.HISTORY_BYTES = history.HISTORY_BYTES, 6000
            try:
                for turn in range(12):
                    self.client.post(*self.rename("headset", f"Name {turn}")[:2])
            finally:
                history.HISTORY_BYTES = kept
        rows = list(ChangedRow.objects.all())
        self.assertLess(sum(len(r.zipped) for r in rows), 6000 + len(rows[-1].zipped))
        self.assertIn(b"Name 11", zlib.decompress(rows[-1].zipped))
        self.rig.refresh_from_db()
        self.assertEqual(editing.undo(self.rig), Change.objects.last().words)
        self.assertEqual(self.rig.values.input("headset").name, "Name 10")

    def test_a_deleted_rig_is_brought_back(self):
        self.client.post(reverse("delete-rig", args=["demo"]))
        self.assertEqual(self.client.get("/rigs/demo/").status_code, 404)
        self.assertContains(self.client.get(reverse("bin")), "Bench rig")
        self.client.post(reverse("bring-back"), {"key": self.rig.key})
        self.assertContains(self.client.get("/rigs/demo/"), "Bench rig")
        self.assertEqual(Rig.objects.count(), 1)

    def test_a_deleted_take_is_brought_back_and_not_found_again_meanwhile(self):
        now = timezone.now()
        take = Take.objects.create(
            folder="t", name="Demo, take 1", rig=self.rig, recorded_at=now,
            tutorial=Tutorial.objects.create(),
        )  # fmt: skip
        delete = reverse("delete-take", args=[take.pk])
        page = self.client.post(delete, follow=True)
        self.assertContains(page, "being recorded, so it was not deleted", status_code=400)
        Take.objects.update(state=Take.State.COMPLETE)
        self.assertContains(self.client.post(delete, follow=True), "lies in the bin")
        self.assertEqual(self.client.get(take.get_absolute_url()).status_code, 404)
        back = self.client.post(reverse("bring-back"), {"key": take.key}, follow=True)
        self.assertContains(back, "“Demo, take 1” is back")
