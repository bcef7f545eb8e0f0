import json
import tempfile
import unittest
from pathlib import Path

import jsonschema
from hypothesis import given
from hypothesis import strategies as st

import kettle_media
from kettle_core.program.cues import CloseUp, Cue, Mark, Place, ToScene
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import CHANGE_OVERS, ChangeOver
from kettle_media.take.cues import CUE, read_cues, write_cues
from kettle_media.take.folder import TakeFolder

SCHEMAS = Path(kettle_media.__file__).parent / "schemas"
st.register_type_strategy(
    ChangeOver, st.builds(ChangeOver, st.sampled_from(CHANGE_OVERS), st.integers(0, 5000))
)
IDS = st.text("abc-123", min_size=1, max_size=40)
SCHEMA = jsonschema.Draft202012Validator(CUE.schema())


class CuesFile(unittest.TestCase):
    def setUp(self):
        room = tempfile.TemporaryDirectory()
        self.addCleanup(room.cleanup)
        self.folder = TakeFolder(Path(room.name))

    @given(st.from_type(Cue).filter(lambda cue: cue.at_ns < 2**62))
    def test_every_cue_is_read_back_equal_and_follows_the_published_schema(self, cue):
        text = CUE.write(cue)
        self.assertEqual(CUE.read(text), cue)
        SCHEMA.validate(json.loads(text))

    def test_the_published_schema_is_the_one_that_is_read_by(self):
        published = json.loads((SCHEMAS / "cue.schema.json").read_text())
        self.assertEqual(published, CUE.schema())

    def test_cues_come_in_the_order_of_their_times(self):
        late, early = Mark(9, "again"), ToScene(3, "scene-2", ChangeOver("glide", 300))
        write_cues(self.folder, [late, early])
        self.assertEqual(read_cues(self.folder), ([early, late], []))

    def test_the_first_takes_said_it_with_another_word(self):
        self.folder.cues_path.write_text('{"at_ns": 0, "what": "scene", "scene": "scene-1"}\n')
        self.assertEqual(read_cues(self.folder), ([ToScene(0, "scene-1")], []))

    def test_a_take_without_the_file_has_none(self):
        self.assertEqual(read_cues(self.folder), ([], []))

    def test_what_cannot_be_read_is_told_by_its_line_and_the_rest_is_kept(self):
        good = Place(5, "scene-1", "layer-1", Box(0, 0, 8, 8), 1.5)
        lines = [
            '{"do": "mark", "at_ns": 1.5}',
            '{"do": "mark", "at_ns": -1}',
            '{"do": "mark"}',
            '{"do": "mark", "at_ns": "1"}',
            '{"do": "mark", "at_ns": 1, "colour": "red"}',
            '{"do": "fly", "at_ns": 1}',
            '{"at_ns": 1}',
            "[1, 2]",
            '{"do": "close-up", "at_ns": 1, "input": "d", "part": [1, 2, 3, 4]}',
            "[" * 5000,
            "\x00\xff",
            CUE.write(good),
            '{"do": "mark", "at_',
        ]
        self.folder.cues_path.write_text("\n".join(lines), encoding="latin-1")
        cues, told = read_cues(self.folder)
        self.assertEqual(cues, [good])
        self.assertEqual(len(told), len(lines) - 1)
        for number, words in (
            (1, "mark.at_ns should be a whole number"),
            (2, "at least 0"),
            (3, "mark.at_ns is missing"),
            (4, "mark.at_ns should be a whole number"),
            (5, "mark.colour is not known"),
            (6, "It is of no kind that is known"),
            (7, "It does not say what it is"),
            (9, "close-up.part should be an object"),
            (13, "It is no JSON"),
        ):
            line = next(x for x in told if x.startswith(f"Line {number} "))
            self.assertIn(words, line)

    def test_a_close_up_back_has_no_part(self):
        cue = CloseUp(1, "display-1", None)
        self.assertIn('"part":null', CUE.write(cue))
