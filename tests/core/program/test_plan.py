"""Plans against a slow interpreter that walks frame by frame, and against each other."""

import unittest
from dataclasses import replace
from fractions import Fraction

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from kettle_core.program.cues import GoOn, Hide, Mute, Pause, Place, Show, ToScene, Unmute
from kettle_core.program.gain_lines import RAMP_SAMPLES, differing_sounds
from kettle_core.program.plan import Script, differing, make_plan, stretches_from_now
from kettle_core.program.replay import Following, replay
from kettle_core.rig.changes import with_format
from kettle_core.rig.format import Format
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import ChangeOver
from kettle_core.timing.ticks import NS_PER_S
from kettle_core.timing.time_map import Source, lay
from kettle_studio.demo import demo_rig

TAKE, OTHER, CARD = Source("take", "a"), Source("take", "b"), Source("card", "title")
MS = 1_000_000
LENGTH_MS = 4000
RIG = replace(demo_rig(), change_over=ChangeOver("crossfade", 250))
PICTURES = ("display-1", "webcam-1")
SOUNDS = ("headset", "system")
TIMES = st.integers(0, LENGTH_MS).map(lambda ms: ms * MS)
FPS = st.sampled_from([Fraction(10), Fraction(25), Fraction(30000, 1001)])


def _cues():
    scenes = [s.id for s in RIG.scenes]
    layer = RIG.scenes[0].layers[-1]
    place = st.builds(
        lambda at, left: Place(at, RIG.scenes[0].id, layer.id, Box(left, 8, 64, 48)),
        TIMES,
        st.integers(0, 90),
    )
    return st.lists(
        st.one_of(
            st.builds(ToScene, TIMES, st.sampled_from(scenes)),
            st.builds(Hide, TIMES, st.sampled_from(PICTURES)),
            st.builds(Show, TIMES, st.sampled_from(PICTURES)),
            st.builds(Mute, TIMES, st.sampled_from(SOUNDS)),
            st.builds(Unmute, TIMES, st.sampled_from(SOUNDS)),
            place,
        ),
        max_size=8,
    )


def _cuts():
    return st.lists(
        st.builds(
            lambda source, a, b, speed: (source, min(a, b), max(a, b), speed),
            st.sampled_from([TAKE, OTHER]),
            TIMES,
            TIMES,
            st.sampled_from([Fraction(1), Fraction(1), Fraction(3, 2), Fraction(4)]),
        ),
        max_size=4,
    )


def walked(cues, at_ns):
    """What a take shows at a record time: every cue up to it, one after the other."""
    scene_id, hidden, muted, placed = RIG.default_scene.id, set(), set(), {}
    for cue in sorted(cues, key=lambda c: c.at_ns):
        if cue.at_ns > at_ns:
            break
        match cue:
            case ToScene():
                scene_id = cue.scene
            case Hide():
                hidden.add(cue.input)
            case Show():
                hidden.discard(cue.input)
            case Mute():
                muted.add(cue.input)
            case Unmute():
                muted.discard(cue.input)
            case Place():
                placed[cue.scene, cue.layer] = cue.box
    scene = RIG.scene(scene_id)
    seen = [
        (x.input_id, placed.get((scene_id, x.id), x.box), x.crop)
        for x in scene.layers
        if x.shown and x.input_id not in hidden
    ]
    heard = {x.input_id: x.gain_db for x in scene.sounds if x.heard and x.input_id not in muted}
    return scene_id, seen, heard


def plan_of(cues, cuts, format_, other=()):
    scripts = {TAKE: Script(RIG, replay(RIG, cues)), OTHER: Script(RIG, replay(RIG, other))}
    return make_plan(scripts, lay(cuts), format_)


class Walking(unittest.TestCase):
    @given(_cues(), _cues(), _cuts(), FPS)
    def test_every_frame_shows_what_a_slow_walk_through_the_cues_finds(
        self, ours, theirs, cuts, fps
    ):
        time_map = lay(cuts)
        format_ = replace(RIG.format, fps=fps)
        plan = plan_of(ours, cuts, format_, theirs)
        before = 0
        for stretch in plan.stretches:
            self.assertEqual(stretch.first_frame, before)
            self.assertLess(stretch.first_frame, stretch.end_frame)
            before = stretch.end_frame
        self.assertEqual(plan.frames, -(-time_map.length_ns * fps // NS_PER_S))
        for frame in range(plan.frames):
            source, at_ns = time_map.source_at(Fraction(frame * NS_PER_S) / fps)
            stretch = plan.stretch_of(frame)
            self.assertEqual((stretch.source, stretch.source_ns(frame, fps)), (source, at_ns))
            scene_id, seen, _ = walked(ours if source == TAKE else theirs, at_ns)
            self.assertEqual(stretch.scene.scene_id, scene_id)
            self.assertEqual([(x.input_id, x.box, x.crop) for x in stretch.scene.layers], seen)
            if stretch.before is not None:
                self.assertTrue(0 <= stretch.share_at(frame) < 1)

    @given(_cues(), _cuts(), FPS)
    def test_every_settled_sample_is_as_loud_as_the_slow_walk_says(self, cues, cuts, fps):
        plan = plan_of(cues, cuts, replace(RIG.format, fps=fps))
        for stretch in plan.stretches:
            first = round(stretch.first_frame * 48_000 / fps)
            end = round(stretch.end_frame * 48_000 / fps)
            if stretch.before is not None or end - first <= 3 * RAMP_SAMPLES:
                continue
            at = (first + end) // 2
            heard = walked(
                cues if stretch.source == TAKE else (), stretch.source_ns(stretch.first_frame, fps)
            )[2]
            found = dict.fromkeys(SOUNDS, 0.0)
            for line in plan.lines:
                found[line.input_id] += float(line.gains(at, 1)[0])
            for name in SOUNDS:
                loud = name in heard and stretch.speed == 1
                wanted = 10 ** (heard[name] / 20) if loud else 0.0
                self.assertAlmostEqual(found[name], wanted, places=5)

    @given(_cues(), _cuts(), FPS)
    def test_no_gain_ever_jumps(self, cues, cuts, fps):
        plan = plan_of(cues, cuts, replace(RIG.format, fps=fps))
        for name in SOUNDS:
            gains = np.zeros(plan.samples)
            for line in plan.lines:
                if line.input_id == name:
                    gains += line.gains(0, plan.samples)
            steps = np.abs(np.diff(gains))
            loudest = max(gains.max(initial=0), 1)
            # Two ramps may meet where pieces are shorter than they are.
            self.assertLessEqual(steps.max(initial=0), 3 * loudest / RAMP_SAMPLES)


class Planning(unittest.TestCase):
    format = replace(RIG.format, fps=Fraction(10))

    def test_a_change_over_begins_at_the_first_frame_at_or_after_its_cue(self):
        to = RIG.scenes[1]
        way = ChangeOver("crossfade", 500)
        cues = [ToScene(1010 * MS, to.id, way)]
        plan = plan_of(cues, [(TAKE, 0, 4000 * MS, 1)], self.format)
        spans = [(s.first_frame, s.end_frame, s.before is not None) for s in plan.stretches]
        self.assertEqual(spans, [(0, 11, False), (11, 16, True), (16, 40, False)])
        self.assertEqual(plan.stretches[1].share_at(13), 0.4)
        self.assertEqual(plan.frames, 40)
        cut_short = plan_of(
            [*cues, ToScene(1300 * MS, RIG.scenes[2].id, ChangeOver("cut"))],
            [(TAKE, 0, 4000 * MS, 1)],
            self.format,
        )
        spans = [(s.first_frame, s.end_frame) for s in cut_short.stretches]
        self.assertEqual(spans, [(0, 11), (11, 13), (13, 40)])

    def test_sounds_cross_over_as_long_as_the_scenes_do(self):
        lonely = replace(RIG.scenes[1], sounds=())
        rig = replace(RIG, scenes=(RIG.scenes[0], lonely, *RIG.scenes[2:]))
        cues = [ToScene(1000 * MS, lonely.id, ChangeOver("crossfade", 500))]
        script = {TAKE: Script(rig, replay(rig, cues))}
        plan = make_plan(script, lay([(TAKE, 0, 4000 * MS, 1)]), self.format)
        line = next(x for x in plan.lines if x.input_id == "headset")
        gain = float(line.gains(0, 1)[0])
        for ms, share in ((999, 1.0), (1250, 0.5), (1500, 0.0), (3000, 0.0)):
            self.assertAlmostEqual(float(line.gains(ms * 48, 1)[0]), gain * share, places=4)

    def test_pieces_cross_over_within_ten_milliseconds_half_of_them_beyond_their_ends(self):
        plan = plan_of([], [(TAKE, 0, 1000 * MS, 1), (TAKE, 2000 * MS, 3000 * MS, 1)], self.format)
        ours, theirs = (x for x in plan.lines if x.input_id == "headset")
        self.assertEqual((ours.first_sample, ours.end_sample), (0, 48_240))
        self.assertEqual((theirs.first_sample, theirs.end_sample), (47_760, 96_000))
        self.assertEqual(theirs.from_sample, 96_000 - 240)
        both = ours.gains(47_000, 2000) + theirs.gains(47_000, 2000)
        np.testing.assert_allclose(both, both[0], rtol=0.01)

    def test_what_happens_in_a_pause_is_there_when_it_goes_on(self):
        cues = [Pause(1000 * MS), ToScene(1500 * MS, RIG.scenes[1].id), GoOn(2000 * MS)]
        said = replay(RIG, cues)
        time_map = lay([(TAKE, 0, 3000 * MS, 1)]).through({TAKE: said.take_time(TAKE, 4000 * MS)})
        plan = make_plan({TAKE: Script(RIG, said)}, time_map, self.format)
        self.assertEqual(
            [(s.first_frame, s.scene.scene_id, s.before) for s in plan.stretches],
            [(0, RIG.default_scene.id, None), (10, RIG.scenes[1].id, None)],
        )

    def test_a_card_fills_the_frame_and_another_frame_size_is_laid_anew(self):
        small = Format(640, 360, Fraction(10))
        plan = plan_of([], [(CARD, 0, 500 * MS, 1), (TAKE, 0, 500 * MS, 1)], small)
        card, take = plan.stretches
        self.assertEqual(card.scene.layers[0].box, Box(0, 0, 640, 360))
        self.assertEqual(card.scene.layers[0].input_id, "title")
        self.assertEqual(take.scene.layers, with_format(RIG, small).default_scene.layers)

    def test_three_hours_with_500_cues(self):
        ids = [s.id for s in RIG.scenes]
        cues = [ToScene(n * 21 * NS_PER_S, ids[n % 3]) for n in range(500)]
        plan = plan_of(cues, [(TAKE, 0, 10_800 * NS_PER_S, 1)], RIG.format)
        self.assertEqual(plan.frames, 324_000)
        self.assertEqual(len(plan.stretches), 999)


class Comparing(unittest.TestCase):
    @given(_cues(), _cues(), _cuts())
    def test_what_differs_is_told_to_the_frame(self, ours, theirs, cuts):
        format_ = replace(RIG.format, fps=Fraction(10))
        a, b = plan_of(ours, cuts, format_), plan_of(theirs, cuts, format_)
        told = {n for first, end in differing(a, b) for n in range(first, end)}
        self.assertEqual(told, {n for n in range(a.frames) if shown(a, n) != shown(b, n)})
        self.assertEqual(differing(a, a), ())

    @given(_cues(), _cues(), _cuts())
    def test_what_is_heard_otherwise_is_told(self, ours, theirs, cuts):
        format_ = replace(RIG.format, fps=Fraction(10))
        a, b = plan_of(ours, cuts, format_), plan_of(theirs, cuts, format_)
        told = np.zeros(a.samples, bool)
        for first, end in differing_sounds(a.lines, b.lines):
            told[max(0, first) : end] = True
        apart = np.zeros(a.samples)
        for name in SOUNDS:
            gains = [sum((x.gains(0, a.samples) for x in p.lines if x.input_id == name),
                         np.zeros(a.samples)) for p in (a, b)]  # fmt: skip
            apart = np.maximum(apart, np.abs(gains[0] - gains[1]))
        self.assertTrue(told[apart > 1e-4].all())
        self.assertEqual(differing_sounds(a.lines, a.lines), ())

    def test_a_muted_second_is_told_to_the_ramp(self):
        format_ = replace(RIG.format, fps=Fraction(10))
        cut = [(TAKE, 0, 4000 * MS, 1)]
        muted = plan_of([Mute(1000 * MS, "system"), Unmute(2000 * MS, "system")], cut, format_)
        whole = plan_of([], cut, format_)
        wanted = ((48_000, 96_000 + RAMP_SAMPLES),)
        self.assertEqual(differing_sounds(muted.lines, whole.lines), wanted)
        self.assertEqual(differing(muted, whole), ())

    def test_a_longer_plan_differs_where_the_other_has_ended(self):
        format_ = replace(RIG.format, fps=Fraction(10))
        a = plan_of([], [(TAKE, 0, 2000 * MS, 1)], format_)
        b = plan_of([], [(TAKE, 0, 3000 * MS, 1)], format_)
        self.assertEqual(differing(a, b), ((20, 30),))
        self.assertEqual(differing(b, a), ((20, 30),))
        other = replace(format_, fps=Fraction(20))
        self.assertEqual(differing(a, plan_of([], [(TAKE, 0, 2000 * MS, 1)], other)), ((0, 40),))


def shown(plan, frame):
    """What one frame shows, said so that equal pictures are equal."""
    s = plan.stretch_of(frame)
    way = None
    if s.before is not None:
        way = (s.before.layers, s.change_over, s.first_frame, s.end_frame)
    return s.source, s.source_ns(frame, plan.fps), s.speed, s.scene.layers, way


class WhileRecording(unittest.TestCase):
    @given(_cues(), FPS)
    def test_what_is_live_is_what_will_be_composed_frame_by_frame(self, cues, fps):
        format_ = replace(RIG.format, fps=fps)
        cues = sorted(cues, key=lambda cue: cue.at_ns)
        script = Script(RIG, replay(RIG, cues))
        whole = lay([(TAKE, 0, LENGTH_MS * MS, 1)])
        plan = make_plan({TAKE: script}, whole, format_)
        following, said = Following.begin(RIG), list(cues)
        live = stretches_from_now(following.moments, format_)
        for frame in range(plan.frames):
            # A key counts from the first frame at or after it.
            while said and said[0].at_ns * fps <= frame * NS_PER_S:
                following.follow(said.pop(0))
                # The viewer knows only the last ones.
                live = stretches_from_now(following.moments[-8:], format_)
            shown = next(s for s in reversed(live) if s.first_frame <= frame)
            composed = plan.stretch_of(frame)
            for stretch in (shown, composed):
                self.assertTrue(stretch.first_frame <= frame < stretch.end_frame)
            self.assertEqual(shown.scene.layers, composed.scene.layers)
            self.assertEqual(shown.before, composed.before)
            if composed.before:
                self.assertEqual(shown.change_over, composed.change_over)
