import copy
import json
import unittest

from hypothesis import given
from hypothesis import strategies as st

from kettle_core.errors import RigError
from kettle_core.rig.rig import Rig
from kettle_core.scene.scene import MAX_LAYERS, Scene
from kettle_media.rig_document import SCENE, VERSION, rig_from_dict, rig_to_dict
from kettle_studio.demo import demo_rig
from tests.media.old_rigs import as_version_2, as_version_4, as_version_5


def with_value(data, path, value):
    """A copy of plain data with one place changed."""
    changed = copy.deepcopy(data)
    place = changed
    for key in path[:-1]:
        place = place[key]
    place[path[-1]] = value
    return changed


def places(data, path=()):
    """Every place of plain data."""
    yield path
    rows = (
        data.items()
        if isinstance(data, dict)
        else enumerate(data)
        if isinstance(data, list)
        else ()
    )
    for key, value in rows:
        yield from places(value, (*path, key))


class RigDocument(unittest.TestCase):
    def setUp(self):
        self.data = rig_to_dict(demo_rig())

    def test_a_rig_written_and_read_is_equal(self):
        self.assertEqual(rig_from_dict(json.loads(json.dumps(self.data))), demo_rig())

    def test_damage_is_named_by_its_field(self):
        crop = {"left": 0, "top": 0, "width": 4000, "height": 720}
        layer, tone = ("scenes", 0, "layers", 1), ("inputs", 5, "tone")
        cases = (
            (("format", "fps"), "29.97", "one of the frame rates 15, 24000/1001"),
            (("format", "frame_width"), 1921, "multiple of 2, got 1921"),
            (("inputs", 0, "id"), "../etc", "a-z"),
            (("inputs", 0, "mode"), [], "should be an object"),
            (("inputs", 0, "mode", "fps"), "1/0", "a frame rate from 1 to 240"),
            (("inputs", 0, "mode", "fps"), "0", "needs a frame rate"),
            (("inputs", 0, "device"), " ", "needs a device"),
            (("inputs", 0, "still"), "a" * 64, "one too many"),
            (("inputs", 0, "looks", "crop"), crop, "inside 1920 × 1080 px"),
            (("inputs", 0, "looks", "crop"), crop | {"width": 33}, "four even numbers"),
            (("inputs", 5, "mode", "channels"), 0, "1 or 2 channels"),
            (("inputs", 5, "mode", "sample_rate_hz"), 4000, "from 8000 Hz"),
            ((*layer, "box", "width"), 0, "at least 1"),
            ((*layer, "box", "left"), 20_000, "at most 16000"),
            ((*layer, "crop"), crop, "outside its picture"),
            ((*layer, "turn"), 360, "less than 360"),
            ((*layer, "colour"), "red", "colour is not known"),
            (("scenes", 0, "layers"), self.data["scenes"][0]["layers"] * MAX_LAYERS, "at most 64"),
            (("scenes", 0, "sounds", 0, "gain_db"), float("inf"), "should be a number"),
            (("scenes", 0, "sounds", 0, "gain_db"), 31, "at most 30, got 31"),
            (("scenes", 0, "sounds", 0, "input_id"), "display-1", "cannot be heard"),
            (("scenes",), [], "at least one scene"),
            ((*tone, "suppression"), 101, "at most 100"),
            ((*tone, "suppression"), True, "whole number"),
            ((*tone, "engine"), "magic", "thorough, light"),
            ((*tone, "pan"), float("nan"), "should be a number"),
            ((*tone, "downmix"), "both", "'stereo', 'sum', 'mid'"),
            (("ducking", "attack_ms"), 0, "at least 10"),
            (("stems", 0, "channels"), 6, "at most 2"),
            (("stems", 0, "sends", 0, "input_id"), "tablet", "cannot go to a stem"),
            (("stems", 0, "sends", 0, "input_id"), "gone", "no input"),
            (("stems", 1, "id"), "voice", "same id"),
            (("name",), " ", "a text of 1 to 80 characters"),
            (("version",), VERSION + 1, "whole number from 1"),
            (("version",), True, "whole number from 1"),
        )
        for path, value, sentence in cases:
            with self.subTest(path=path), self.assertRaisesRegex(RigError, sentence) as caught:
                rig_from_dict(with_value(self.data, path, value))
            self.assertTrue(caught.exception.field)

    def test_a_field_is_named_as_people_write_it(self):
        path = ("scenes", 0, "layers", 1, "box", "width")
        with self.assertRaisesRegex(RigError, "should be a whole number, got 'wide'") as caught:
            rig_from_dict(with_value(self.data, path, "wide"))
        self.assertEqual(caught.exception.field, "scenes[0].layers[1].box.width")

    @given(st.data())
    def test_any_damage_of_any_version_is_a_sentence_and_nothing_else(self, data):
        old = {VERSION: dict, 5: as_version_5, 4: as_version_4, 2: as_version_2}
        version = data.draw(st.sampled_from(sorted(old)))
        plain = old[version](copy.deepcopy(self.data))
        path = data.draw(st.sampled_from([p for p in places(plain) if p]))
        junk = (
            st.none()
            | st.booleans()
            | st.integers()
            | st.floats()
            | st.text()
            | st.just([])
            | st.just({})
        )
        try:
            rig = rig_from_dict(with_value(plain, path, data.draw(junk)))
        except RigError as error:
            self.assertTrue(str(error).endswith((".", "it.")), str(error))
        else:
            self.assertIsInstance(rig, Rig)
            self.assertEqual(rig_from_dict(rig_to_dict(rig)), rig)

    @given(st.from_type(Scene).filter(lambda s: len(s.layers) < 9))
    def test_a_scene_that_is_read_was_described_by_its_limits(self, scene):
        try:
            again = SCENE.read_plain(SCENE.plain(scene))
        except RigError as error:
            self.assertRegex(error.field, r"id|name|spot|layout|still|colour|shape|kind|key")
        else:
            self.assertEqual(again, scene)


class OldRigs(unittest.TestCase):
    def setUp(self):
        self.data = rig_to_dict(demo_rig())

    def test_versions_4_and_5_said_the_same_in_other_words(self):
        for old in (as_version_5, as_version_4):
            self.assertEqual(rig_from_dict(old(copy.deepcopy(self.data))), demo_rig())

    def test_a_rig_of_version_2_is_read_with_what_it_lacked_filled_in(self):
        rig = rig_from_dict(as_version_2(self.data))
        self.assertEqual([s.key for s in rig.scenes], ["1", "2", "3"])
        self.assertEqual(rig.scenes[0].layers[1].mask.shape, "ellipse")
        self.assertEqual(rig.default_scene, rig.scenes[0])
        self.assertEqual(rig.stems[0].sends[0].input_id, rig.stems[0].id)
        self.assertEqual(rig_from_dict(rig_to_dict(rig)), rig)

    def test_a_rig_of_version_1_is_read(self):
        data = as_version_2(self.data) | {"version": 1}
        data["inputs"] = [i for i in data["inputs"] if i["kind"] in ("display", "microphone")]
        names = [i["id"] for i in data["inputs"]]
        for item in data["inputs"]:
            for key in ("on", "looks", "tone"):
                item.pop(key, None)
        data["scenes"] = data["scenes"][:1]
        for kind in ("layers", "sounds"):
            rows = data["scenes"][0][kind]
            data["scenes"][0][kind] = [x for x in rows if x["input"] in names]
        self.assertTrue(all(i.on for i in rig_from_dict(data).inputs))
