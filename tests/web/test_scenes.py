"""The drawing table without an engine: what its forms and buttons change, and what they refuse."""

import json
import re
from dataclasses import replace

from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase
from django.urls import reverse

from kettle_core.scene.layout import Box
from kettle_core.scene.scene import ColourKey
from kettle_web.frame.editing import edit, undo
from kettle_web.models import Change, Rig
from kettle_web.rigs.services import make_demo_rig
from tests.fixtures import with_three_layers
from tests.web.test_inputs import InputCase, picture


def box(*sides):
    return dict(zip(("left", "top", "width", "height"), sides, strict=True))


class TableCase(InputCase):
    scene_id = "scene-1"

    def save(self, part, /, *layers, **values):
        address = reverse("save-scene", args=["demo", self.scene_id])
        return self.client.post(address, {"part": part, "layer": layers, **values}, follow=True)

    def values(self):
        return Rig.objects.get(slug="demo").values

    def layer(self, name="webcam-1", scene_id=None):
        scene = self.values().scene(scene_id or self.scene_id)
        return next(x for x in scene.layers if x.id == name)

    def place(self, name, **changes):
        layer = self.layer(name)
        given = {**vars(layer.box), "turn": layer.turn, "opacity": layer.opacity, **changes}
        return self.save("place", name, **given)


class ExactFields(TableCase):
    def test_typed_numbers_place_a_layer_and_the_aspect_ratio_is_kept_when_asked(self):
        self.place("webcam-1", left=-7, top=33, width=300, turn=-12.5, opacity=70, keep_aspect="on")
        layer = self.layer()
        self.assertEqual(layer.box, Box(-7, 33, 300, 300))
        self.assertEqual((layer.turn, layer.opacity), (347.5, 70))
        self.place("webcam-1", height=200)
        self.assertEqual(self.layer().box, Box(-7, 33, 300, 200))
        page = self.client.get(reverse("scene", args=["demo", "scene-1"]), {"layer": "webcam-1"})
        self.assertContains(page, "distorted: its aspect ratio is changed")
        self.assertContains(page, "It reaches beyond the frame")

    def test_bad_numbers_are_told_at_their_field_and_change_nothing(self):
        before = self.values()
        for name, value, sentence in (
            ("width", 0, "The width can&#x27;t be below 1 px"),
            ("height", -40, "The height can&#x27;t be below 1 px"),
            ("left", "", "The left edge is empty, so it was not changed"),
            ("opacity", 130, "The opacity can&#x27;t be above 100 %"),
            ("turn", "half", "The turn is a number"),
        ):
            with self.subTest(name):
                page = self.place("webcam-1", **{name: value})
                self.assertContains(page, sentence, status_code=400)
        self.assertEqual(self.values(), before)

    def test_cutting_off_too_much_is_refused_at_the_field(self):
        page = self.save("cut", "webcam-1", left=900, top=0, right=1015, bottom=0, section="cut")
        self.assertContains(page, "at least 8 px each way must be left", status_code=400)
        self.save("cut", "webcam-1", left=500, top=100, right=500, bottom=80)
        self.assertEqual(self.layer().crop, Box(500, 100, 920, 900))

    def test_a_mask_and_a_colour_key_are_kept_whole(self):
        mask = {
            "shape": "rectangle", "radius_px": 30, "soft_px": 2, "border_px": 6, "still": "",
            "border_colour": "#a94f27", "shadow_px": 20, "shadow_percent": 50,
        }  # fmt: skip
        self.save("mask", "webcam-1", **mask)
        self.assertEqual(vars(self.layer().mask), mask)
        page = self.save("mask", "webcam-1", **{**mask, "shape": "picture"})
        self.assertContains(page, "library has no picture yet", status_code=400)
        page = self.save("mask", "webcam-1", **{**mask, "border_colour": "red"})
        self.assertContains(page, "A colour is written as # and six digits", status_code=400)
        key = {"colour": "#3fa34d", "tolerance": 20, "softness": 5, "spill": 80}
        self.save("colour_key", "webcam-1", on="on", **key)
        self.assertEqual(self.layer().colour_key, ColourKey(**key))
        page = self.save("colour_key", "webcam-1", on="on", **{**key, "colour": "#808080"})
        self.assertContains(page, "nearly grey")
        self.save("colour_key", "webcam-1", **key)
        self.assertIsNone(self.layer().colour_key)

    def test_a_mask_is_taken_from_a_file_and_what_is_no_picture_is_refused_there(self):
        page = self.save("mask_file", "webcam-1", file=SimpleUploadedFile("a.png", b"no picture"))
        self.assertContains(page, "is not a picture that can be used", status_code=400)
        self.save("mask_file", "webcam-1", file=picture("Round.png", (30, 30)))
        mask = self.layer().mask
        self.assertEqual((mask.shape, mask.still), ("picture", self.rig.stills.get().digest))

    def test_a_mask_of_another_shape_is_fitted_and_said(self):
        address = reverse("add-input", args=["demo"])
        self.client.post(address, {"kind": "picture", "file": picture("Round mask.png", (40, 40))})
        self.save("whole", "webcam-1")
        mask = {**vars(self.layer().mask), "shape": "picture", "still": ""}
        page = self.save("mask", "webcam-1", **mask)
        self.assertContains(page, "The mask has 40 × 40 px and the layer another shape")
        self.assertEqual(len(self.layer().mask.still), 64)


class Buttons(TableCase):
    def test_without_a_script_every_form_has_a_button(self):
        scene = "/rigs/demo/scenes/at/scene-1/"
        others = ("/rigs/demo/", "/rigs/demo/inputs/webcam-1/", "/rigs/demo/sound/stems/")
        for address in (scene, f"{scene}?layer=webcam-1", *others):
            page = self.client.get(address).content.decode()
            for head, body in re.findall(r"<form([^>]*)>(.*?)</form>", page, re.S):
                shown = re.findall(r'<(?:input(?! type="hidden")|select|textarea)', body)
                # Enter in the only field of a form sends it; what is hidden is for scripts.
                if not shown or re.search(r"\shidden\b", head) or shown == ["<input"]:
                    shown = shown if "checkbox" in body else []
                with self.subTest(address, form=body[-300:]):
                    self.assertTrue("<button" in body or not shown)

    def test_each_does_its_one_thing(self):
        self.save("quarter", "webcam-1")
        self.save("mirrored on", "webcam-1")
        self.save("one_to_one", "webcam-1")
        layer = self.layer()
        self.assertEqual((layer.turn, layer.mirrored, layer.box.width), (90, True, 1080))
        self.save("shown off", "webcam-1")
        self.assertFalse(self.layer().shown)
        self.save("stack back", "webcam-1")
        self.assertEqual(self.values().scenes[0].layers[0].id, "webcam-1")
        self.save("stack front", "webcam-1")
        self.save("delete", "webcam-1")
        self.assertEqual([x.id for x in self.values().scenes[0].layers], ["display-1"])
        page = self.save("add", input="tablet")
        self.assertEqual(page.redirect_chain[-1][0][-13:], "?layer=tablet")

    def test_a_locked_layer_stays_where_it_is(self):
        self.save("locked on", "webcam-1")
        before = self.layer()
        page = self.place("webcam-1", left=1)
        self.assertContains(page, "Desk webcam is locked, so nothing moved", status_code=400)
        rows = [{"id": "webcam-1", "box": box(1, 1, 9, 9), "crop": box(0, 0, 9, 9), "turn": 0}]
        self.save("placements", "webcam-1", placements=json.dumps(rows))
        self.assertEqual(self.layer(), before)

    def test_several_layers_align_and_get_equal_gaps(self):
        self.scene_id = "scene-2"
        edit(self.rig, lambda values: (with_three_layers(values), "three layers"))
        names = [x.id for x in self.values().scene("scene-2").layers]
        self.save("align left", *names)
        self.assertEqual({x.box.left for x in self.values().scene("scene-2").layers}, {0})
        page = self.save("distribute down", *names[:2])
        self.assertContains(page, "At least three layers are needed", status_code=400)
        self.save("same_size height", names[2], names[1])
        found = self.values().scene("scene-2").layers
        self.assertEqual(found[1].box.height, found[2].box.height)

    def test_what_the_sheet_sends_is_not_trusted(self):
        before = self.values()
        good = {"id": "webcam-1", "box": box(1, 1, 90, 90), "crop": box(0, 0, 90, 90), "turn": 0}
        for change, sentence in (
            ({"box": box(0, 0, 0, 9)}, "box.width should be at least 1"),
            ({"box": box(0, 0, 10**9, 9)}, "at most 16000"),
            ({"box": box(0, 0, 1.5, 9)}, "whole number"),
            ({"crop": box(0, 0, 9000, 9)}, "outside the picture"),
            ({"id": "nobody"}, "no such layer any more"),
        ):
            rows = json.dumps([{**good, **change}])
            page = self.save("placements", "webcam-1", placements=rows)
            self.assertContains(page, sentence, status_code=400)
        for text in ("", "{", "[" * 4000, json.dumps([good] * 200)):
            page = self.save("placements", "webcam-1", placements=text)
            self.assertEqual(page.status_code, 400)
        page = self.save("exchange", "webcam-1", input="headset")
        self.assertContains(page, "is a sound and cannot be a layer", status_code=400)
        page = self.save("exchange", "webcam-1", input="ghost")
        self.assertContains(page, "no input “ghost”", status_code=400)
        self.assertContains(self.save("quarter"), "Pick a layer first", status_code=400)
        self.assertContains(self.save("explode", "webcam-1"), "be set on the drawing table")
        self.assertEqual(self.values(), before)


class Scenes(TableCase):
    def test_make_copy_order_and_delete_with_undo(self):
        made = {"layout": "beside", "screen": "tablet", "camera": "webcam-2", "here": "scene-1"}
        new = reverse("new-scene", args=["demo"])
        page = self.client.post(new, made, follow=True)
        self.assertContains(page, "Tablet and Overhead webcam")
        self.client.post(new, {**made, "copy": "1"})
        names = [s.name for s in self.values().scenes]
        self.assertEqual(names[1], "Sheet and me (copy)")
        page = self.client.post(new, {"layout": "halves", "screen": "tablet"}, follow=True)
        self.assertContains(page, "needs 2 pictures, got 1", status_code=400)
        order = reverse("order-scenes", args=["demo"])
        self.client.post(order, {"scene": "scene-3", "place": "0"})
        self.assertEqual(self.values().scenes[0].id, "scene-3")
        page = self.client.post(reverse("delete-scene", args=["demo", "scene-3"]), follow=True)
        self.assertContains(page, "Undo brings it back")
        undo = self.client.post(
            reverse("undo", args=["demo"]), {"to": "/rigs/demo/scenes/at/scene-1/"}, follow=True
        )
        self.assertContains(undo, "Taken back: Title deleted")
        self.assertEqual(self.values().scenes[0].id, "scene-3")

    def test_name_key_default_and_change_over(self):
        page = self.save("scene", name="Title", key="1")
        self.assertContains(page, "Another scene is called “Title”", status_code=400)
        page = self.save("scene", name="Draft", key="x")
        self.assertContains(page, "key is a digit", status_code=400)
        self.scene_id = "scene-2"
        self.save("default")
        self.save("change_over", kind="glide", length_ms=700)
        self.save("rigs_change_over", kind="crossfade", length_ms=250)
        values = self.values()
        self.assertEqual(values.default_scene.id, "scene-2")
        ways = [values.change_over_to(s) for s in values.scenes]
        self.assertEqual([(w.kind, w.length_ms) for w in ways],
                         [("crossfade", 250), ("glide", 700), ("crossfade", 250)])  # fmt: skip
        page = self.save("change_over", kind="cut", length_ms=9000)
        self.assertContains(page, "The length can&#x27;t be above 5000 ms", status_code=400)

    def test_a_scene_without_a_voice_says_so_at_once_here_and_on_the_path(self):
        page = self.save("heard", input="headset", on="0")
        self.assertContains(page, "No voice: no microphone is heard in it.")
        self.assertContains(page, 'title="no voice in Sheet and me and Title"')
        page = self.save("heard", input="laptop", on="1")
        self.assertContains(page, "No voice")
        self.assertNotContains(self.save("heard", input="headset", on="1"), "No voice:")

    def test_spots_are_saved_taken_and_left(self):
        self.save("spot_save", "webcam-1", name="My corner")
        self.scene_id = "scene-2"
        spot = self.values().spots[0]
        page = self.save("spot_sit", "webcam-1", spot=spot.id)
        self.assertContains(page, "1 more layer in 2 scenes move with it")
        self.place("webcam-1", left=10, top=20)
        self.assertEqual(self.layer(scene_id="scene-1").box.left, 10)
        self.save("spot_name", "webcam-1", name="Teacher")
        self.assertEqual(self.values().spots[0].name, "Teacher")
        self.save("spot_leave", "webcam-1")
        self.place("webcam-1", left=500)
        self.assertEqual(self.layer(scene_id="scene-1").box.left, 10)
        self.assertContains(self.save("spot_save", "webcam-1", name=" "), "needs a name",
                            status_code=400)  # fmt: skip
        self.scene_id = "scene-1"
        self.save(f"spot_delete {spot.id}", "webcam-1")
        self.assertEqual(self.values().spots, ())

    def test_a_scene_that_is_gone_is_a_sentence(self):
        page = self.client.get(reverse("scene", args=["demo", "scene-9"]), follow=True)
        self.assertContains(page, "not in the rig any more")
        self.assertContains(page, "Sheet and me")
        self.scene_id = "scene-9"
        self.assertContains(self.save("quarter", "webcam-1"), "not in the rig any more")


class History(TestCase):
    def test_more_changes_than_any_number_can_be_undone_on_one_day(self):
        rig = make_demo_rig()
        for step in range(130):
            edit(rig, lambda values, n=step: (replace(values, name=f"Rig {n}"), "renamed"))
        self.assertEqual(Change.objects.count(), 130)
        for _ in range(130):
            undo(rig)
        self.assertEqual(rig.values.name, "Bench rig")
