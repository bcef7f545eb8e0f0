import unittest

from hypothesis import given
from hypothesis import strategies as st

from kettle_core.errors import RigError
from kettle_core.program.running_order import (
    MOST_STEPS,
    OrderStep,
    RunningOrder,
    moved_step,
    outline_of,
    read_outline,
    with_new_step,
    with_outline,
)

PASTED = """
   1. Title and greeting [0:20]
        Say who you are.
      - and what will be on the table
   2) Lay out sheet 2  (3 min)
   * Fold it at the bench (1,5)
   – End card [45s]
   3 ways to sew
"""
TITLES = st.text(st.characters(categories=["L", "Nd"]), min_size=1, max_size=20)
LINES = st.text(st.characters(categories=["L", "Nd", "Zs"]), max_size=30)


class Outlines(unittest.TestCase):
    def test_what_people_paste_is_understood(self):
        steps = read_outline(PASTED)
        self.assertEqual(
            [(s.title, s.target_s) for s in steps],
            [
                ("Title and greeting", 20),
                ("Lay out sheet 2", 180),
                ("Fold it at the bench", 90),
                ("End card", 45),
                ("3 ways to sew", 0),
            ],
        )
        self.assertEqual(steps[0].notes, "Say who you are.\n- and what will be on the table")
        self.assertEqual([s.id for s in steps], [f"step-{n}" for n in range(1, 6)])

    @given(st.lists(st.tuples(TITLES, LINES, st.integers(0, 7200)), min_size=1, max_size=8))
    def test_an_outline_reads_back_to_the_same_steps(self, rows):
        steps = tuple(
            OrderStep(f"step-{n}", title, " ".join(notes.split()), seconds)
            for n, (title, notes, seconds) in enumerate(rows, 1)
        )
        self.assertEqual(read_outline(outline_of(RunningOrder(steps))), steps)

    @given(st.text(max_size=300))
    def test_any_text_is_steps_or_a_sentence(self, text):
        try:
            found = read_outline(text)
        except RigError as error:
            self.assertRegex(str(error), r"^(The outline|Line \d|The notes|A running order)")
        else:
            self.assertTrue(all(s.title.strip() for s in found))

    def test_ten_thousand_lines_are_refused_with_the_line(self):
        with self.assertRaisesRegex(RigError, f"line {MOST_STEPS + 1} would be one more"):
            read_outline("Step\n" * 10_000)
        with self.assertRaisesRegex(RigError, "more than 4000 characters at line"):
            read_outline("Step\n" + "    note and more\n" * 10_000)
        with self.assertRaisesRegex(RigError, "Line 2 is longer"):
            read_outline("Step\n" + "x" * 200)
        with self.assertRaisesRegex(RigError, "is empty"):
            read_outline("  \n\t\n")

    def test_what_is_added_keeps_the_steps_that_are_there(self):
        order = RunningOrder(read_outline("A\nB"))
        more = with_outline(order, "C\nD", after=True)
        self.assertEqual([s.title for s in more.steps], ["A", "B", "C", "D"])
        self.assertEqual(len({s.id for s in more.steps}), 4)
        self.assertEqual([s.title for s in with_outline(order, "C", after=False).steps], ["C"])
        full = RunningOrder(read_outline("A\n" * MOST_STEPS))
        with self.assertRaisesRegex(RigError, "this would make 201"):
            with_outline(full, "one more", after=True)
        with self.assertRaisesRegex(RigError, "this would make 201"):
            with_new_step(full, OrderStep("x", "one more"))
        self.assertEqual(with_new_step(order, OrderStep("x", "C")).steps[-1].id, "step-3")

    @given(st.permutations(["a", "b", "c", "d"]), st.integers(-3, 9))
    def test_a_moved_step_is_where_it_was_put_and_no_other_changes_places(self, ids, place):
        order = RunningOrder(tuple(OrderStep(i, i) for i in ids))
        moved = [s.id for s in moved_step(order, "b", place).steps]
        self.assertEqual(moved.index("b"), min(max(place, 0), 3))
        self.assertEqual([i for i in moved if i != "b"], [i for i in ids if i != "b"])
