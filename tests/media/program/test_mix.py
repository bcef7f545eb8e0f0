"""The sounds of a take: cleaned, in step, on their tracks and in the mix."""

import unittest
from dataclasses import replace

import numpy as np

from kettle_core.program.replay import replay
from kettle_core.rig.sound_changes import preset_stems, with_tone
from kettle_core.sound.background import Ducking
from kettle_core.sound.tone import Tone
from kettle_core.timing.time_map import Source
from kettle_media.program.line_sounds import LineSounds
from kettle_media.program.mix import ProgramMix, Stems
from kettle_media.program.sources import TakeSources
from kettle_media.program.take_program import plan_take
from kettle_media.rig_document import rig_to_dict
from kettle_media.sound.sound_file import SoundFile
from kettle_media.take.align import align_take
from tests.fixtures import copied_take

SAMPLES = 3 * 48_000


class TakeSounds(unittest.TestCase):
    def made(self, folder, change=lambda rig: rig):
        """The mix and the stems of a take whose rig was changed."""
        info = folder.read_info()
        info = replace(info, rig=rig_to_dict(change(info.rig_values)))
        folder.write_info(info)
        sources = TakeSources(folder, info, align_take(folder, info))
        self.addCleanup(sources.close)
        plan, _ = plan_take(sources.rig, replay(sources.rig, ()), info.id, info.duration_ns)
        sounds = LineSounds({Source("take", info.id): sources})
        stems = Stems(plan.stems, sounds.read, folder.stems_path)
        self.addCleanup(stems.close)
        return ProgramMix(plan, sounds.read), stems

    def heard(self, name, change):
        """The mix of a changed rig, and its stems by id."""
        folder = copied_take(name)
        mix, stems = self.made(folder, change)
        parts, at = [], 0
        for count in (1, 4000, SAMPLES - 4001):
            at += count
            stems.go_to(at)
            parts.append(mix.read(count))
        stems.finish()
        whole = np.concatenate([*parts, mix.flush()], axis=1)
        rig = folder.read_info().rig_values
        tracks = {t.id: SoundFile(folder.stem_path(t)).read_whole() for t in rig.stems}
        return whole, tracks

    def test_voice_and_system_lie_apart_in_step_with_the_mix(self):
        quiet = Ducking(on=False)
        mix, tracks = self.heard("apart", lambda rig: replace(rig, ducking=quiet))
        self.assertEqual(mix.shape, (2, SAMPLES))
        self.assertEqual({k: v.shape for k, v in tracks.items()},
                         {"voice": (1, SAMPLES), "system": (2, SAMPLES)})  # fmt: skip
        together = tracks["voice"] + 10 ** (-12 / 20) * tracks["system"]
        np.testing.assert_allclose(mix, together, atol=3e-4)

    def test_work_that_is_broken_off_leaves_no_half_track(self):
        folder = copied_take("broken-off")
        _, stems = self.made(folder)
        stems.go_to(48_000)
        stems.close()
        self.assertEqual(list(folder.stems_path.iterdir()), [])

    def test_one_mix_has_everything_on_one_track(self):
        _, tracks = self.heard("one", lambda rig: replace(rig, stems=preset_stems(rig, "one")))
        self.assertEqual(list(tracks), ["mix"])

    def test_ducking_lowers_the_system_audio_in_the_mix_and_not_on_its_track(self):
        def change(depth_db):
            return lambda rig: replace(rig, ducking=Ducking(depth_db > 0, depth_db or 1.0))

        plain, apart = self.heard("not-ducked", change(0))
        ducked, again = self.heard("ducked", change(20))
        np.testing.assert_array_equal(apart["system"], again["system"])
        difference = plain - ducked
        wanted = 10 ** (-12 / 20) * apart["system"]
        shares = np.sum(difference * wanted, axis=1) / np.sum(wanted**2, axis=1)
        self.assertTrue(all(0.3 < share < 0.95 for share in shares), shares)

    def test_a_chain_changes_its_own_sound_only(self):
        tone = Tone(gain_db=-6.0206, suppression=100, engine="light", low_cut=True, limiter=True)
        _, before = self.heard("raw", lambda rig: rig)
        _, after = self.heard("cleaned", lambda rig: with_tone(rig, "headset", tone))
        np.testing.assert_array_equal(before["system"], after["system"])
        self.assertEqual(after["voice"].shape, before["voice"].shape)
        ratio = after["voice"].std() / before["voice"].std()
        self.assertAlmostEqual(ratio, 0.5, delta=0.12)
