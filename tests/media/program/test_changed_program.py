"""A program composed again after a change, against one composed anew."""

import unittest
from unittest import mock

import av
import numpy as np

from kettle_core.program.afterwards import Afterwards, Nudge
from kettle_core.program.cues import Hide, Mute, Show, ToScene, Unmute
from kettle_media.program import sound_cells
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


def sound_packets(path):
    with av.open(str(path)) as container:
        return [bytes(p) for p in container.demux(audio=0) if p.size]


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

    def test_sound_is_mixed_again_where_it_changed_and_joins_what_was_there(self):
        folder, fresh = copied_take("changed-sound", 4), copied_take("changed-sound-anew", 4)
        muted = Afterwards(
            (ToScene(0, "scene-1"), Mute(2 * S, "system"), Unmute(5 * S // 2, "system"))
        )
        with (
            mock.patch.object(sound_cells, "CELL_PACKETS", 12),
            mock.patch.object(sound_cells, "SETTLED_SAMPLES", 12_000),
            mock.patch.object(sound_cells, "AFTER_SAMPLES", 12_000),
        ):
            compose_take(folder, folder.program_path)
            before, stems = sound_packets(folder.program_path), self.stems(folder)
            write_afterwards(folder, muted)
            compose_take(folder, folder.program_path)
        write_afterwards(fresh, muted)
        compose_take(fresh, fresh.program_path)
        after = sound_packets(folder.program_path)
        self.assertEqual(len(after), len(before))
        same = [ours == theirs for ours, theirs in zip(after, before, strict=True)]
        # 187 packets; what was muted lies in those from 94 to 118.
        self.assertTrue(all(same[:72]) and all(same[150:]))
        self.assertFalse(any(same[96:117]))
        self.assertEqual(self.stems(folder), stems)
        heard, anew = decoded(folder.program_path)[1], decoded(fresh.program_path)[1]
        self.assertEqual(heard.shape, anew.shape)
        apart = np.sqrt(np.mean((heard - anew) ** 2, axis=0).reshape(-1, 1024).mean(axis=1))
        self.assertLess(apart.max(), 0.08 * heard.std())
        steps, wanted = (np.abs(np.diff(x, axis=1)).max() for x in (heard, anew))
        self.assertLess(steps, 1.05 * wanted)

    @staticmethod
    def stems(folder):
        """Which files they are: one that is written again is another one."""
        return {p.name: p.stat().st_ino for p in folder.stems_path.iterdir()}
