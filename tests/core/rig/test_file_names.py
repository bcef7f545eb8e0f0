"""Names by a pattern: safe, never twice, never elsewhere."""

import re
import unittest
from pathlib import PurePosixPath, PureWindowsPath

from hypothesis import given
from hypothesis import strategies as st

from kettle_core.errors import RigError
from kettle_core.rig.file_names import FIELDS, MOST_CHARACTERS, check_pattern, file_name

PIECES = st.one_of(
    st.sampled_from([f"{{{f}}}" for f in FIELDS]),
    st.text(st.sampled_from("abZ09-_ ."), max_size=8),
)
PATTERNS = st.lists(PIECES, min_size=1, max_size=8).map("".join)
VALUES = st.fixed_dictionaries({f: st.text(max_size=150) for f in FIELDS})


def fits(pattern):
    try:
        check_pattern(pattern)
    except RigError:
        return False
    return True


class Names(unittest.TestCase):
    @given(PATTERNS.filter(fits), VALUES)
    def test_whatever_people_typed_names_are_safe_everywhere(self, pattern, values):
        name = file_name(pattern, values, lambda _: False)
        self.assertRegex(name, r"^[a-z0-9][a-z0-9._-]*$")
        self.assertLessEqual(len(name) + len(".times.csv"), MOST_CHARACTERS)
        self.assertEqual(PurePosixPath(name).name, name)
        self.assertEqual(PureWindowsPath(name + ".mkv").name, name + ".mkv")
        self.assertFalse(PureWindowsPath(name + ".mkv").is_reserved())
        self.assertNotIn("..", name)

    @given(PATTERNS.filter(fits), st.lists(VALUES, min_size=2, max_size=6))
    def test_no_two_files_get_one_name(self, pattern, many):
        made = set()
        for values in many:
            made.add(file_name(pattern, values, made.__contains__))
        self.assertEqual(len(made), len(many))

    @given(st.text(max_size=60))
    def test_a_pattern_is_refused_with_a_sentence_or_names_files(self, pattern):
        try:
            check_pattern(pattern)
        except RigError as error:
            self.assertRegex(str(error), r"^(The|Besides) .+\.$")
            self.assertEqual(error.field, "format.files.pattern")
        else:
            self.assertTrue(file_name(pattern, {"rig": "A"}, lambda _: False))

    def test_what_no_file_system_wants_is_refused_and_said(self):
        for pattern, words in (
            ("../{rig}", "single dots"), ("{rig}/{take}", "letters a-z"), ("{rig}\0", "letters"),
            ("{rig}{nothing}", "no field {nothing}"), ("{rig", "brace"), ("plain", "one field"),
            ("{rig}" + "x" * 500, "at most 60"), ("{rig}\\{take}", "letters"), ("é{rig}", "a-z"),
        ):  # fmt: skip
            with self.subTest(pattern), self.assertRaisesRegex(RigError, re.escape(words)):
                check_pattern(pattern)

    def test_a_field_without_letters_is_called_what_it_is_and_one_without_text_is_left_out(self):
        pattern = "{date}_{tutorial} {take}-{track}"
        values = {"date": "2026-11-26", "tutorial": "折り紙", "take": "03", "track": ""}
        made = file_name(pattern, values, lambda _: False)
        self.assertEqual(made, "2026-11-26_tutorial-03")
        self.assertEqual(file_name("{rig}", {"rig": "CON"}, lambda _: False), "con-file")
