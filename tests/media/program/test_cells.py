"""Cells of a plan: they cover it, and change only where it does."""

import unittest
from dataclasses import replace
from fractions import Fraction

from hypothesis import example, given
from hypothesis import strategies as st

from kettle_core.program.cues import Hide, ToScene
from kettle_core.program.plan import Script, differing, make_plan
from kettle_core.program.replay import replay
from kettle_core.rig.encoder_settings import PROGRAM, ConstantQuality
from kettle_core.scene.scene import ChangeOver
from kettle_core.timing.time_map import Source, lay
from kettle_media.program.cells import cells_of
from kettle_studio.demo import demo_rig

TAKE = Source("take", "a")
S = 10**9
RIG = demo_rig()
FORMAT = replace(RIG.format, fps=Fraction(10))
CUTS = st.lists(
    st.tuples(st.integers(0, 120), st.integers(1, 80), st.sampled_from([1, Fraction(3, 2), 4])),
    min_size=1,
    max_size=4,
)
CUES = st.lists(
    st.one_of(
        st.builds(lambda at, n: ToScene(at * S // 10, f"scene-{n}", ChangeOver("crossfade", 500)),
                  st.integers(0, 200), st.integers(1, 3)),
        st.builds(lambda at: Hide(at * S // 10, "webcam-1"), st.integers(0, 200)),
    ),
    max_size=4,
)  # fmt: skip


def plan_of(cuts, cues=()):
    return make_plan({TAKE: Script(RIG, replay(RIG, cues))}, lay(cuts), FORMAT)


def keys(plan, settings=PROGRAM, identity="take"):
    return {(c.first, c.end): c.key for c in cells_of(plan, settings, {TAKE: identity})}


class Cells(unittest.TestCase):
    @given(CUTS, CUES)
    @example([(57, 34, Fraction(3, 2))], [ToScene(8 * S, "scene-2", ChangeOver("crossfade", 500))])
    def test_they_cover_all_frames_and_are_no_longer_than_their_keyframes_are_apart(
        self, cuts, cues
    ):
        cuts = [(TAKE, a * S // 10, (a + n) * S // 10, speed) for a, n, speed in cuts]
        plan = plan_of(cuts, cues)
        cells = cells_of(plan, PROGRAM, {TAKE: "take"})
        self.assertEqual([c.first for c in cells], [0, *(c.end for c in cells[:-1])])
        self.assertEqual(cells[-1].end, plan.frames)
        for cell in cells:
            self.assertTrue(0 < cell.end - cell.first <= 20)

    @given(CUES, CUES)
    def test_a_cell_has_another_key_just_where_its_frames_differ(self, ours, theirs):
        cut = [(TAKE, 0, 20 * S, 1)]
        a, b = plan_of(cut, ours), plan_of(cut, theirs)
        apart = {n for first, end in differing(a, b) for n in range(first, end)}
        before, after = keys(a), keys(b)
        self.assertEqual(before.keys(), after.keys())
        for (first, end), key in before.items():
            differs = any(n in apart for n in range(first, end))
            self.assertEqual(after[first, end] != key, differs)

    def test_what_is_taken_out_before_them_does_not_change_them(self):
        whole = plan_of([(TAKE, 0, 20 * S, 1)])
        cut = plan_of([(TAKE, 0, 5 * S, 1), (TAKE, 9 * S, 20 * S, 1)])
        kept = set(keys(whole).values()) & set(keys(cut).values())
        # Of ten cells two lay in what is gone; two were cut into.
        self.assertEqual(len(keys(whole)), 10)
        self.assertEqual(len(kept), 7)

    def test_other_tracks_settings_or_sizes_make_other_cells(self):
        plan = plan_of([(TAKE, 0, 4 * S, 1)])
        found = [
            keys(plan),
            keys(plan, identity="another sync"),
            keys(plan, replace(PROGRAM, rate=ConstantQuality(23))),
            keys(replace(plan, frame_size=(1280, 720))),
        ]
        self.assertEqual(len({tuple(k.values()) for k in found}), 4)
