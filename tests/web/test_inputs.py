"""Pages of inputs and rigs, with the studio's devices behind them but no engine."""

import io
import json
import os
import time
from pathlib import Path
from unittest import mock

from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase
from django.urls import reverse
from PIL import Image

from kettle_core.errors import EngineError
from kettle_core.scene.layout import Box
from kettle_core.sound.background import judge_balance
from kettle_engine.protocol import device_to_dict
from kettle_media.rig.stills import keep_picture
from kettle_media.rig_document import rig_to_dict
from kettle_studio.driver import Studio
from kettle_web.models import Rig, Still
from kettle_web.rigs.library import UNUSED_FOR_S, forget_pictures
from kettle_web.rigs.services import make_demo_rig


class FakeEngine:
    """Answers from a studio in this process what a page asks the engine."""

    def __init__(self):
        self.studio = Studio()
        self.asked = []

    def ask(self, do, **values):
        self.asked.append((do, values))
        if do == "devices":
            return [device_to_dict(d) for d in self.studio.list_devices()]
        if do == "surroundings":
            return [vars(s) for s in self.studio.surroundings(values["device"])]
        if do == "switch":
            return self.studio.switch_surrounding(values["device"], values["key"], values["on"])
        if do == "status":
            return {"state": "watching", "disk_free_bytes": 10**9, "load": 0.1, "cores": 2}
        if do == "balance":
            return vars(judge_balance(17.0 + values["backgrounds"][0][1] / -100, 8.0))
        raise EngineError(f"not asked for here: {do}")


def from_page(client, page, address, **values):
    """What is answered to a form of a page."""
    referer = f"http://testserver{page}"
    return client.post(address, values, follow=True, headers={"Referer": referer})


def picture(name="Kettle mark.png", size=(40, 30)):
    out = io.BytesIO()
    Image.new("RGBA", size, (200, 90, 40, 90)).save(out, "PNG")
    return SimpleUploadedFile(name, out.getvalue())


class InputCase(TestCase):
    def setUp(self):
        self.rig = make_demo_rig()
        self.engine = FakeEngine()
        client = mock.patch("kettle_web.frame.engine.EngineClient", lambda _data: self.engine)
        self.enterContext(client)

    def save(self, input_id, part, /, **values):
        address = reverse("save-input", args=["demo", input_id])
        return self.client.post(address, {"part": part, **values}, follow=True)

    def input(self, name):
        self.rig.refresh_from_db()
        return self.rig.values.input(name)

    def add(self, kind, **values):
        address = reverse("add-input", args=["demo"])
        return self.client.post(address, {"kind": kind, **values}, follow=True)


class Refused(InputCase):
    def test_what_does_not_answer_is_told_on_the_page_whose_form_was_sent(self):
        page = reverse("set-up", args=["demo", "headset"])
        answer = from_page(self.client, page, page, seconds="5")
        self.assertEqual(answer.redirect_chain, [(f"http://testserver{page}", 302)])
        self.assertContains(answer, "not asked for here: hear")
        elsewhere = self.client.post(
            page, {"seconds": "5"}, headers={"Referer": "http://elsewhere.example/"}
        )
        self.assertRedirects(elsewhere, reverse("patch-sheet", args=["demo"]))
        # Without a script a form that was refused stands at an address that only takes forms.
        form = reverse("save-input", args=["demo", "headset"])
        again = from_page(self.client, form, page, seconds="5")
        self.assertEqual(again.redirect_chain[-1], (reverse("patch-sheet", args=["demo"]), 302))
        self.assertContains(again, "not asked for here: hear")


class Setting(InputCase):
    def test_a_webcam_takes_its_modes_and_refuses_more_with_the_reason(self):
        page = self.save("webcam-1", "mode", mode="3840x2160@30")
        self.assertContains(page, "would only blur", status_code=400)
        self.assertContains(page, "The most it can do is 1920 × 1080 px · 30 fps", status_code=400)
        self.save("webcam-1", "mode", mode="640x360@60")
        self.assertEqual(self.input("webcam-1").mode.width, 640)
        self.save("webcam-1", "looks", turn="90", mirrored="on")
        self.save("webcam-1", "crop", cropped="on")
        item = self.input("webcam-1")
        self.assertEqual((item.looks.turn, item.looks.mirrored), (90, True))
        self.assertEqual(item.size, (270, 480))
        page = self.save("webcam-1", "looks", turn="45")
        self.assertContains(page, "turned by 0, 90, 180 or 270°", status_code=400)

    def test_a_display_is_recorded_whole_in_part_or_by_window(self):
        self.save("display-1", "capture", what="region")
        self.assertEqual(self.input("display-1").looks.crop, Box(320, 180, 1280, 720))
        values = {"left": 7, "top": 5000, "width": 801, "height": 601, "preset": ""}
        page = self.save("display-1", "region", **values)
        self.assertContains(page, ">4:3<")
        self.assertEqual(self.input("display-1").looks.crop, Box(8, 480, 800, 600))
        self.save("display-1", "region", **{**values, "left": 8, "width": 1000, "height": 600,
                                            "keep_aspect": "on"})  # fmt: skip
        crop = self.input("display-1").looks.crop
        self.assertEqual((crop.width, crop.height), (800, 600))
        page = self.save("display-1", "region", **{**values, "width": ""})
        self.assertContains(page, "The width is empty", status_code=400)
        page = self.save("display-1", "region", **{**values, "width": "9" * 400})
        self.assertEqual(page.status_code, 400)
        self.save("display-1", "capture", what="display-1/tide-almanac")
        item = self.input("display-1")
        self.assertEqual((item.kind, item.size, item.looks.crop), ("tab", (1920, 964), None))
        self.save("display-1", "capture", what="display-1")
        self.assertEqual(self.input("display-1").kind, "display")
        page = self.save("display-1", "capture", what="display-2/mail")
        self.assertContains(page, "not there any more", status_code=400)

    def test_a_window_that_is_gone_can_be_exchanged_for_a_display(self):
        self.save("display-1", "capture", what="display-1/quirefold")
        self.engine.studio.set_fault("display-1/quirefold", "unplugged", True)
        page = self.client.get(reverse("input", args=["demo", "display-1"]))
        self.assertContains(page, "(not plugged in)")
        self.assertContains(page, "Whole display “Second display”")
        self.save("display-1", "capture", what="display-2")
        self.assertEqual(self.input("display-1").device, "display-2")

    def test_a_preset_that_is_too_large_is_told_at_the_form(self):
        self.save("display-1", "capture", what="region")
        values = {"left": 0, "top": 0, "width": 640, "height": 480, "preset": "1080x1920"}
        page = self.save("display-1", "region", **values)
        self.assertContains(page, "does not fit on a display of 1920 × 1080 px", status_code=400)

    def test_gain_downmix_and_delay_have_their_limits(self):
        for field, value, sentence in (
            ("gain_db", "31", "can&#x27;t be above 30 dB"),
            ("gain_db", "-21", "can&#x27;t be below −20 dB"),
            ("gain_db", "nan", "is a number"),
            ("delay_ms", "", "The delay is empty"),
        ):
            values = {"gain_db": "3", "delay_ms": "0", field: value}
            self.assertContains(self.save("headset", "tone", **values), sentence, status_code=400)
        self.save("headset", "tone", gain_db="12.34", delay_ms="-40", downmix="mid")
        tone = self.input("headset").tone
        self.assertEqual((tone.gain_db, tone.downmix, tone.delay_ms), (12.3, "mid", -40.0))

    def test_a_webcams_own_sound_is_off_unless_kept_as_reference(self):
        page = self.client.get(reverse("input", args=["demo", "webcam-1"]))
        self.assertContains(page, "sync reference")
        self.save("webcam-1", "own_sound", own_sound="reference")
        item = self.input("webcam-1-sound")
        self.assertTrue(item.has_track)
        heard = [s.input_id for scene in self.rig.values.scenes for s in scene.sounds if s.heard]
        self.assertNotIn(item.id, heard)
        self.save("webcam-1", "own_sound", own_sound="off")
        self.assertFalse(self.input("webcam-1-sound").on)

    def test_what_is_seen_besides_is_listed_and_switched(self):
        address = reverse("input", args=["demo", "display-2"])
        self.assertContains(self.client.get(address), "Messages that pop up")
        self.client.post(
            reverse("besides", args=["demo", "display-2"]), {"key": "messages", "on": "0"}
        )
        self.assertFalse(self.engine.studio.switches.messages)
        self.assertContains(self.client.get(address), "Not in the recording.")
        page = self.client.get(reverse("input", args=["demo", "display-1"]))
        self.assertContains(page, "Record the tab or a region below the title bar")

    def test_text_cards_are_changed_and_wrong_values_told(self):
        values = {"text": "One\nTwo", "font": "jetbrains-mono", "size_px": "64",
                  "colour": "#112233", "backdrop": "#445566"}  # fmt: skip
        self.save("title", "card", **values, clear="on")
        card = self.input("title").card
        self.assertEqual((card.text, card.backdrop), ("One\nTwo", ""))
        self.save("title", "opacity", opacity="40")
        self.assertEqual(self.input("title").looks.opacity, 40)
        undo = self.client.post(reverse("undo", args=["demo"]), {"to": "/rigs/demo/inputs/title/"})
        self.assertRedirects(undo, reverse("input", args=["demo", "title"]))
        self.assertEqual(self.input("title").looks.opacity, 100)
        page = self.save("title", "opacity", opacity="140")
        self.assertContains(page, "can&#x27;t be above 100 %", status_code=400)
        for field, value in (("text", " "), ("size_px", "9999"), ("colour", "red")):
            page = self.save("title", "card", **{**values, field: value})
            self.assertContains(page, "field-error", status_code=400)


class Sheet(InputCase):
    def test_changes_are_undone_and_done_again(self):
        before = rig_to_dict(self.rig.values)
        self.save("tablet", "name", name="Counter", back="1")
        self.client.post(reverse("delete-input", args=["demo", "webcam-1"]))
        undo = reverse("undo", args=["demo"])
        page = self.client.post(undo, follow=True)
        self.assertContains(page, "Taken back: Desk webcam deleted.")
        self.client.post(undo, follow=True)
        self.rig.refresh_from_db()
        self.assertEqual(self.rig.document, before)
        self.assertNotContains(self.client.post(undo, follow=True), "Taken back")
        self.client.post(undo, {"again": "1"}, follow=True)
        self.assertEqual(self.input("tablet").name, "Counter")
        self.save("tablet", "on", back="1")
        self.assertFalse(self.input("tablet").on)
        self.assertNotContains(self.client.post(undo, {"again": "1"}, follow=True), "Done again")

    def test_rows_are_moved_and_nonsense_is_told(self):
        order = reverse("order-inputs", args=["demo"])
        self.client.post(order, {"input": "headset", "place": "0"})
        self.client.post(order, {"input": "headset", "move": "down"})
        self.rig.refresh_from_db()
        self.assertEqual([i.id for i in self.rig.values.inputs][:2], ["display-1", "headset"])
        page = self.client.post(order, {"input": "headset", "place": "x"}, follow=True)
        self.assertContains(page, "can&#x27;t be moved there")

    def test_an_empty_name_is_told_at_its_row_and_the_old_one_kept(self):
        page = self.save("tablet", "name", name=" ", back="1")
        self.assertContains(page, "An input needs a name", status_code=400)
        self.assertContains(page, "Patch sheet", status_code=400)
        self.assertEqual(self.input("tablet").name, "Tablet")


class Adding(InputCase):
    def test_devices_cards_and_pictures_are_added(self):
        page = self.add("device", device="display-2/mail")
        self.assertContains(page, "Mail was added.")
        self.assertContains(page, "1470 × 1180 px")
        self.add("card", sample="end")
        self.assertEqual(self.input("end-card").card.font, "source-serif")
        page = self.add("picture", file=picture())
        item = self.input("kettle-mark")
        self.assertEqual((item.kind, item.size), ("picture", (40, 30)))
        still = self.client.get(reverse("still", args=["demo", item.still]))
        self.assertEqual(b"".join(still.streaming_content)[:4], b"\x89PNG")
        self.add("still", digest=item.still)
        self.assertEqual(self.input("kettle-mark-2").still, item.still)
        self.add("picture", file=picture("Wide mark.png", (80, 20)))
        wide = self.input("wide-mark")
        page = self.save("kettle-mark", "still", digest=wide.still)
        self.assertContains(page, "80 × 20 px")
        self.assertEqual(self.input("kettle-mark").size, (80, 20))
        page = self.save("kettle-mark", "still", digest="0" * 64)
        self.assertContains(page, "not in the rig&#x27;s library", status_code=400)

    def test_pictures_that_no_rig_has_any_more_go_after_a_while(self):
        for file in (picture(), picture("Wide mark.png", (80, 20))):
            self.add("picture", file=file)
        had, lost = (Still.objects.get(name=name).path for name in ("Kettle mark", "Wide mark"))
        Still.objects.filter(name="Wide mark").delete()

        def left_after_an_hour():
            for path in filter(Path.exists, (had, lost)):
                os.utime(path, (time.time() - UNUSED_FOR_S - 1,) * 2)
            forget_pictures()
            return had.exists(), lost.exists()

        forget_pictures()
        self.assertTrue(lost.exists())
        replace = Path.replace

        def brought_meanwhile(path, target):
            os.utime(path)
            return replace(path, target)

        with mock.patch.object(Path, "replace", brought_meanwhile):
            self.assertEqual(left_after_an_hour(), (True, True))
        self.assertEqual(left_after_an_hour(), (True, False))
        self.add("picture", file=picture("Wide mark.png", (80, 20)))
        self.assertEqual(left_after_an_hour(), (True, True))
        # Who was ended while looking at one has taken nothing away.
        had.rename(had.with_suffix(".gone"))
        forget_pictures()
        self.assertTrue(had.exists())
        # Who brings what is there has the time as well.
        Still.objects.all().delete()
        keep_picture(lost.parent, lost.stem, lost.read_bytes())
        forget_pictures()
        self.assertEqual((had.exists(), lost.exists()), (False, True))

    def test_what_can_not_be_added_is_told_where_it_was_chosen(self):
        before = len(self.rig.values.inputs)
        cases = (
            ("picture", {}, "No file was chosen"),
            ("picture", {"file": SimpleUploadedFile("a.png", b"")}, "This file is empty"),
            ("picture", {"file": SimpleUploadedFile("a.png", b"<html>")}, "is not a picture"),
            ("file", {"file": SimpleUploadedFile("../../a.sh", b"rm")}, "neither a video nor"),
            ("file", {"file": SimpleUploadedFile("a.mp4", b"\0" * 99)}, "cannot be played"),
            ("device", {"device": "kazoo"}, "not plugged in any more"),
            ("card", {"sample": "x"}, "no such sample card"),
        )
        for kind, values, sentence in cases:
            with self.subTest(sentence):
                self.assertContains(self.add(kind, **values), sentence, status_code=400)
        self.rig.refresh_from_db()
        self.assertEqual(len(self.rig.values.inputs), before)
        material = settings.DATA / "material"
        self.assertEqual(list(material.iterdir()) if material.exists() else [], [])
        self.assertEqual(
            self.client.get(reverse("still", args=["demo", "0" * 64])).status_code, 404
        )


class Carrying(InputCase):
    def send(self, data):
        return self.client.post(
            reverse("import-rig"), {"file": SimpleUploadedFile("x.json", data)}, follow=True
        )

    def test_a_rig_is_exported_imported_and_duplicated_with_its_pictures(self):
        self.add("picture", file=picture())
        data = self.client.get(reverse("export-rig", args=["demo"]))
        self.assertIn('filename="demo.rig.json"', data["Content-Disposition"])
        page = self.send(data.content)
        self.assertContains(page, "was imported with 10 inputs")
        self.rig.refresh_from_db()
        copy = Rig.objects.get(slug="bench-rig")
        self.assertEqual(copy.document, self.rig.document)
        self.assertTrue(copy.stills.get().path.is_file())
        page = self.client.post(reverse("duplicate-rig", args=["demo"]), follow=True)
        self.assertContains(page, "a copy of “Bench rig”")
        rename = reverse("rename-rig", args=["bench-rig"])
        self.client.post(rename, {"name": "Import"})
        self.assertEqual(Rig.objects.get(slug="bench-rig").values.name, "Import")
        page = self.client.post(rename, {"name": "x" * 90})
        self.assertContains(page, "has at most 80 characters", status_code=400)
        self.assertContains(page, "x" * 90, status_code=400)

    def test_what_is_not_there_is_reported(self):
        data = self.client.get(reverse("export-rig", args=["demo"])).content
        self.engine.studio.set_fault("webcam-1", "unplugged", True)
        self.engine.studio.set_fault("tablet", "unplugged", True)
        page = self.send(data)
        self.assertContains(page, "“Tablet” is not plugged in and nothing of its kind is free.")
        self.assertContains(page, "“Desk webcam” is not plugged in")

    def test_a_file_that_is_no_rig_makes_none(self):
        for data in (b"{}", b"[" * 5000, json.dumps({"format": "vast-kettle-rig"}).encode()):
            page = self.send(data)
            self.assertContains(page, "field-error", status_code=400)
        self.assertEqual(Rig.objects.count(), 1)
