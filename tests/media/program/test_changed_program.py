"""A program composed again after a change, against one composed anew."""

import unittest

import av
import numpy as np

from kettle_core.program.afterwards import Afterwards, Nudge
from kettle_core.program.cues import Hide, Show, ToScene
from kettle_media.program.take_program import compose_take
from kettle_media.take.afterwards import write_afterwards
from tests.fixtures import copied_take

S = 10**9
HIDDEN = (ToScene(0, "scene-1"), Hide(S // 2, "webcam-1"), Show(S, "webcam-1"))


def decoded(path):
    """Luma of every frame, and the sound."""
    with av.open(str(path)) as container:
        frames = [f.to_ndarray(format="gray") for f in container.decode(video=0)]
    with av.open(str(path)) as container:
        sound = [f.to_ndarray() for f in container.decode(audio=0)]
    return np.stack(frames), np.concatenate(sound, axis=1)


class Changed(unittest.TestCase):
    def test_only_what_was_changed_is_different_and_all_is_as_composed_anew(self):
        folder = copied_take("changed-program", 2)
        compose_take(folder, folder.program_path)
        was, before = decoded(folder.program_path)
        changed = Afterwards(HIDDEN, (Nudge("headset", 50.0), Nudge("system", 50.0)))
        write_afterwards(folder, changed)
        compose_take(folder, folder.program_path)
        fresh = copied_take("changed-anew", 2)
        write_afterwards(fresh, changed)
        compose_take(fresh, fresh.program_path)
        (frames, after), (anew, heard) = decoded(folder.program_path), decoded(fresh.program_path)
        np.testing.assert_array_equal(frames, anew)
        np.testing.assert_array_equal(after, heard)
        apart = np.abs(frames.astype(int) - was).max(axis=(1, 2))
        # Where the round webcam was is something else now; elsewhere it is as it was.
        self.assertGreater(apart[16:29].min(), 60)
        mean = np.abs(frames.astype(int) - was).mean(axis=(1, 2))
        self.assertLess(max(mean[:15].max(), mean[32:].max()), 0.5)
        self.assertGreater(mean[16:29].min(), 2)
        # Both sounds were moved by hand, so all that is heard comes as much later.
        first, second = before.mean(axis=0), after.mean(axis=0)
        size = min(first.size, second.size)
        spectrum = np.fft.rfft(second[:size]) * np.conj(np.fft.rfft(first[:size]))
        self.assertAlmostEqual(int(np.argmax(np.fft.irfft(spectrum))) / 48, 50.0, delta=1.0)
