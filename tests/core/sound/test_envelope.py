import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from kettle_core.errors import SoundError
from kettle_core.sound.envelope import FULL_SCALE, coarser, envelope_of, levels_of
from kettle_core.sound.quiet import SHORTEST_VOICE_STEPS, quiet_stretches

SOUNDS = arrays(
    np.float32,
    st.tuples(st.integers(1, 2), st.integers(1, 400)),
    elements=st.floats(-1, 1, width=32),
)


class Envelopes(unittest.TestCase):
    @given(SOUNDS, st.data())
    def test_every_level_bounds_the_samples_it_stands_for_and_touches_them(self, sound, data):
        count = sound.shape[1]
        inner = data.draw(st.lists(st.integers(0, count), max_size=40))
        edges = np.array(sorted([0, *inner, count]))
        for number, level in enumerate(levels_of(envelope_of(sound, edges), 3)):
            step = 4**number
            starts = edges[:-1][::step]
            ends = np.r_[edges[::step][1:], edges[-1]][: starts.size]
            for value, a, b in zip(level, starts, ends, strict=True):
                part = sound[:, a:b]
                if not part.size:
                    self.assertEqual(tuple(value), (0, 0, 0))
                    continue
                # An empty stretch within counts as silence.
                least, most = min(part.min(), 0), max(part.max(), 0)
                for found, low, high in (
                    (value["least"], least, part.min()),
                    (value["most"], part.max(), most),
                ):
                    self.assertGreaterEqual(found / FULL_SCALE, low - 1e-4)
                    self.assertLessEqual(found / FULL_SCALE, high + 1e-4)

    @given(SOUNDS)
    def test_whole_steps_give_the_same_however_they_are_come_by(self, sound):
        count = sound.shape[1] // 4 * 4
        fine = envelope_of(sound, np.arange(0, count + 1))
        direct = envelope_of(sound, np.arange(0, count + 1, 4))
        made = coarser(fine)
        self.assertEqual(made["least"].tolist(), direct["least"].tolist())
        self.assertEqual(made["most"].tolist(), direct["most"].tolist())
        apart = np.abs(made["rms"].astype(int) - direct["rms"])
        self.assertLessEqual(apart.max(initial=0), 1)

    def test_edges_outside_or_that_fall_are_refused(self):
        sound = np.zeros((1, 10), np.float32)
        for edges in ([0, 11], [-1, 4], [3, 2]):
            with self.assertRaisesRegex(SoundError, "Edges must rise within 0 to 10"):
                envelope_of(sound, np.array(edges))
        self.assertEqual(envelope_of(sound, np.array([4])).size, 0)


class Quiet(unittest.TestCase):
    @given(st.lists(st.tuples(st.booleans(), st.integers(1, 60)), max_size=20), st.integers(1, 40))
    def test_stretches_are_long_enough_quiet_and_as_long_as_can_be(self, runs, least):
        rms = np.concatenate([[0.0], *(np.full(n, 0.3 if loud else 0.001) for loud, n in runs)])
        found = quiet_stretches(rms, -46.0, least)
        loud = rms > 0.005
        before = 0
        for start, end in found:
            self.assertGreaterEqual(end - start, least)
            self.assertGreaterEqual(start, before)
            before = end + 1
            # What is loud within was too short to be said.
            edges = np.flatnonzero(np.diff(np.r_[False, loud[start:end], False].astype(int)))
            lengths = edges[1::2] - edges[::2]
            self.assertLess(lengths.max(initial=0), SHORTEST_VOICE_STEPS)
            self.assertTrue(start == 0 or loud[start - 1])
            self.assertTrue(end == rms.size or loud[end])
