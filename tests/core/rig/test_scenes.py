"""Starting layouts, scenes and their layers, spots: every change leaves a rig that reads back."""

import unittest
from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from kettle_core.errors import RigError
from kettle_core.rig import scene_changes as changes
from kettle_core.rig import spots
from kettle_core.rig.changes import with_format, with_input, without_input
from kettle_core.rig.format import Format
from kettle_core.rig.starting_layouts import STARTING_LAYOUTS, lay_out
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import MAX_LAYERS, ChangeOver, ColourKey, Mask
from kettle_media.rig_document import rig_from_dict, rig_to_dict
from kettle_studio.demo import demo_rig
from tests.fixtures import with_three_layers

sizes = st.tuples(st.integers(64, 4000), st.integers(64, 4000)).filter(
    lambda s: 0.2 < s[0] / s[1] < 5
)
frames = st.sampled_from((Box(0, 0, 1920, 1080), Box(0, 0, 320, 240), Box(0, 0, 1080, 1920)))


def overlap(a, b):
    across = min(a.right, b.right) - max(a.left, b.left)
    return across > 0 and min(a.bottom, b.bottom) - max(a.top, b.top) > 0


class StartingLayoutTests(unittest.TestCase):
    @given(st.sampled_from(STARTING_LAYOUTS), st.lists(sizes, min_size=5, max_size=5), frames)
    def test_pictures_lie_in_the_frame_undistorted_and_apart(self, layout, made, frame):
        count = 5 if layout.takes_more else len(layout.slots)
        kinds = ["webcam" if s == "camera" else "display" for s in layout.slots]
        kinds += ["display"] * (count - len(kinds))
        places = lay_out(layout.name, made[:count], kinds, frame)
        for place, size in zip(places, made, strict=False):
            self.assertTrue(frame.holds(place.box))
            self.assertTrue(Box(0, 0, *size).holds(place.crop))
            wanted = place.crop.width / place.crop.height
            # Whole and even sizes leave two px of play each way.
            self.assertAlmostEqual(place.box.width, wanted * place.box.height, delta=4 + 4 * wanted)
        if not layout.name.startswith("corner"):
            boxes = [p.box for p in places]
            pairs = [(a, b) for n, a in enumerate(boxes) for b in boxes[n + 1 :]]
            self.assertFalse(any(overlap(a, b) for a, b in pairs))

    def test_they_fill_what_they_promise(self):
        frame, display = Box(0, 0, 1920, 1080), (1920, 1080)
        self.assertEqual(lay_out("screen", [display], ["display"], frame)[0].box, frame)
        beside = lay_out("beside", [display, display], ["display", "webcam"], frame)
        self.assertAlmostEqual(beside[0].box.width / 1920, 0.8, delta=0.01)
        halves = lay_out("halves", [display, display], ["webcam", "webcam"], frame)
        self.assertEqual([p.box.width for p in halves], [960, 960])
        grid = lay_out("grid", [display] * 4, ["display"] * 4, frame)
        area = sum(p.box.width * p.box.height for p in grid)
        self.assertGreater(area / (1920 * 1080), 0.9)
        corner = lay_out("corner-top-right", [display, (1280, 720)], ["display", "webcam"], frame)
        self.assertLess(corner[1].box.top, 60)
        self.assertGreater(corner[1].box.right, 1860)
        self.assertEqual(corner[1].shape, "circle")

    def test_too_few_pictures_are_refused(self):
        with self.assertRaisesRegex(RigError, "needs 2 pictures, got 1"):
            lay_out("halves", [(64, 64)], ["display"], Box(0, 0, 320, 240))


class RigCase(unittest.TestCase):
    def setUp(self):
        self.rig = demo_rig()

    def tearDown(self):
        self.assertEqual(rig_from_dict(rig_to_dict(self.rig)), self.rig)


class SceneTests(RigCase):
    def scene(self, place=0):
        return self.rig.scenes[place]

    def test_everything_set_on_a_layer_is_read_back(self):
        layer = replace(
            self.scene().layers[1],
            turn=12.5,
            mirrored=True,
            opacity=40,
            mask=Mask("ellipse", 3, "", 2, 4, "#102030", 9, 60),
            colour_key=ColourKey("#3fa34d", 10, 20, 30),
            locked=True,
            box=Box(-31, 77, 333, 221),
        )
        self.rig = changes.with_layers(self.rig, "scene-1", [layer])
        own = replace(self.scene(), change_over=ChangeOver("glide", 700), key="")
        self.rig = changes.with_scene(self.rig, own)

    def test_a_new_scene_keeps_the_voice_and_gets_a_key_and_a_name_of_its_own(self):
        for _ in range(2):
            self.rig = changes.with_new_scene(self.rig, "Grid", "grid", ("display-1", "tablet"))
        one, two = self.rig.scenes[-2:]
        self.assertEqual((one.name, two.name), ("Grid", "Grid 2"))
        self.assertEqual((one.key, two.key), ("4", "5"))
        self.assertIsNotNone(self.rig.voice_in(one))
        self.assertEqual(changes.with_new_scene(self.rig, "Bare").scenes[-1].layers, ())

    def test_a_copy_stands_beside_its_scene_and_a_deleted_one_is_gone(self):
        self.rig = changes.with_scene_copied(self.rig, "scene-1")
        self.assertEqual(self.rig.scenes[1].layers, self.rig.scenes[0].layers)
        self.rig = changes.with_scene_at(self.rig, self.rig.scenes[1].id, 9)
        self.assertEqual(self.rig.scenes[-1].name, "Sheet and me (copy)")
        for scene in self.rig.scenes[1:]:
            self.rig = changes.without_scene(self.rig, scene.id)
        with self.assertRaisesRegex(RigError, "only scene"):
            changes.without_scene(self.rig, self.scene().id)

    def test_names_and_keys_belong_to_one_scene(self):
        with self.assertRaisesRegex(RigError, "Another scene is called “Title”") as caught:
            changes.with_scene_named(self.rig, "scene-1", "Title", "1")
        self.assertEqual(caught.exception.field, "name")
        with self.assertRaisesRegex(RigError, "The key 3 calls “Title” already") as caught:
            changes.with_scene_named(self.rig, "scene-1", "Draft", "3")
        self.assertEqual(caught.exception.field, "key")

    def test_a_scene_that_follows_its_layout_is_laid_out_again_for_another_shape(self):
        self.rig = changes.with_new_scene(self.rig, "B", "beside", ("display-1", "webcam-1"))
        scene_id = self.rig.scenes[-1].id
        self.rig = changes.with_input_exchanged(self.rig, scene_id, "display-1", "tablet")
        scene = self.rig.scene(scene_id)
        tablet = scene.layers[0]
        self.assertEqual((tablet.id, tablet.input_id), ("display-1", "tablet"))
        width, height = self.rig.input("tablet").size
        self.assertAlmostEqual(tablet.box.width / tablet.box.height, width / height, delta=0.01)
        # A narrow screen leaves the camera more room than a wide one did.
        self.assertGreater(scene.layers[1].box.width, 600)
        moved = replace(tablet, box=Box(50, 50, tablet.box.width, tablet.box.height))
        self.rig = changes.with_layers(self.rig, scene_id, [moved])
        self.assertEqual(self.rig.scene(scene_id).layout, "")
        self.rig = changes.with_input_exchanged(self.rig, scene_id, "display-1", "display-1")
        self.assertTrue(moved.box.holds(self.rig.scene(scene_id).layers[0].box))

    def test_a_layer_follows_its_input_when_that_is_cropped_or_deleted(self):
        display = self.rig.input("display-1")
        narrow = replace(display, looks=replace(display.looks, crop=Box(0, 0, 800, 1000)))
        self.rig = with_input(self.rig, narrow)
        self.assertEqual(self.scene().layers[0].crop, Box(0, 0, 800, 1000))
        self.rig = without_input(self.rig, "webcam-1")
        self.assertEqual([x.input_id for x in self.scene().layers], ["display-1"])

    def test_a_scene_holds_so_many_layers_and_a_sound_is_none(self):
        for _ in range(MAX_LAYERS - len(self.scene().layers)):
            self.rig = changes.with_layer_added(self.rig, "scene-1", "webcam-1")
        with self.assertRaisesRegex(RigError, "64 layers, and a scene holds no more"):
            changes.with_layer_added(self.rig, "scene-1", "tablet")
        with self.assertRaisesRegex(RigError, "is a sound"):
            changes.with_layer_added(self.rig, "scene-2", "headset")


class SpotTests(RigCase):
    def setUp(self):
        super().setUp()
        self.rig = with_three_layers(self.rig)
        layer = self.rig.scenes[0].layers[1]
        self.rig, self.spot = spots.with_spot_saved(self.rig, layer, "My corner")
        for scene_id in ("scene-1", "scene-2"):
            mine = self.layer(scene_id)
            self.rig = changes.with_layers(self.rig, scene_id, [spots.sat(mine, self.spot)])

    def layer(self, scene_id):
        scene = self.rig.scene(scene_id)
        return next(x for x in scene.layers if x.input_id == "webcam-1")

    def test_what_is_moved_in_one_scene_moves_in_all(self):
        mine = self.layer("scene-1")
        there = replace(mine, box=Box(41, 53, 301, 301), turn=15.0)
        self.rig = changes.with_layers(self.rig, "scene-1", [there])
        other = self.layer("scene-2")
        self.assertEqual((other.box, other.turn), (there.box, 15.0))
        self.assertEqual(self.rig.spots[0].box, there.box)

    def test_a_layer_of_another_shape_lies_inside_the_spot(self):
        tablet = next(x for x in self.rig.scenes[1].layers if x.input_id == "tablet")
        seated = spots.sat(tablet, self.spot)
        self.assertTrue(self.spot.box.holds(seated.box))
        self.assertEqual(seated.box.height, self.spot.box.height)
        self.rig = changes.with_layers(self.rig, "scene-2", [seated])
        moved = replace(seated, box=replace(seated.box, left=seated.box.left - 100))
        self.rig = changes.with_layers(self.rig, "scene-2", [moved])
        self.assertEqual(self.layer("scene-1").box.left, self.spot.box.left - 100)

    def test_a_layer_that_left_stays_and_a_deleted_spot_leaves_all_in_place(self):
        left = replace(self.layer("scene-1"), spot="")
        self.rig = changes.with_layers(self.rig, "scene-1", [left])
        other = replace(self.layer("scene-2"), box=Box(0, 0, 200, 200))
        self.rig = changes.with_layers(self.rig, "scene-2", [other])
        self.assertEqual(self.layer("scene-1").box, left.box)
        self.assertEqual(spots.seats(self.rig, self.spot.id), [("scene-2", other.id)])
        self.rig = spots.without_spot(self.rig, self.spot.id)
        self.assertEqual(self.layer("scene-2").spot, "")
        self.assertEqual(self.layer("scene-2").box, Box(0, 0, 200, 200))

    def test_two_layers_of_one_spot_moved_together_move_it_once(self):
        mine = self.layer("scene-2")
        twin = replace(mine, id="twin")
        scene = self.rig.scene("scene-2")
        self.rig = changes.with_scene(self.rig, replace(scene, layers=(*scene.layers, twin)))
        box = replace(mine.box, left=mine.box.left - 60)
        moved = [replace(x, box=box) for x in (mine, twin)]
        self.rig = changes.with_layers(self.rig, "scene-2", moved)
        self.assertEqual(self.rig.spots[0].box, box)
        self.assertEqual(self.layer("scene-1").box, box)

    def test_a_layer_on_a_spot_stays_on_it_when_its_input_takes_another_shape(self):
        webcam = self.rig.input("webcam-1")
        narrow = replace(webcam, looks=replace(webcam.looks, crop=Box(0, 0, 400, 900)))
        self.rig = with_input(self.rig, narrow)
        for scene_id in ("scene-1", "scene-2"):
            self.assertEqual(self.rig.scene(scene_id).layout, "")
            self.assertTrue(self.spot.box.holds(self.layer(scene_id).box))
        self.rig = with_format(self.rig, Format(1280, 720))
        for scene_id in ("scene-1", "scene-2"):
            self.assertTrue(self.rig.spots[0].box.holds(self.layer(scene_id).box))

    def test_a_spot_has_a_name_of_its_own(self):
        with self.assertRaisesRegex(RigError, "Another spot is called “My corner”"):
            spots.with_spot_saved(self.rig, self.layer("scene-1"), "My corner")
