"""The Sound page and the tracks table, with what was heard laid beside them."""

import json
import os
import re
import time
from unittest import mock

from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from kettle_media.rig_document import rig_to_dict
from kettle_media.sound.sound_file import write_sound_file
from kettle_studio.demo import demo_rig
from kettle_web.models import Rig
from kettle_web.rigs.heard import HEARD_FOR_S, forget_heard, heard_path
from tests.core.sound.signals import hum, noise, words
from tests.web.test_inputs import FakeEngine
from tests.web.working import do_jobs

CHAIN = {
    "part": "chain", "gain_db": "3", "downmix": "stereo", "delay_ms": "0", "pan": "0",
    "hum": "auto", "suppression": "70", "engine": "light", "echo": "50", "target_lufs": "-18",
}  # fmt: skip


class SoundCase(TestCase):
    def setUp(self):
        self.rig = Rig.objects.create(name="Bench", slug="bench", document=rig_to_dict(demo_rig()))
        self.enterContext(
            mock.patch("kettle_web.frame.engine.EngineClient", lambda _data: FakeEngine())
        )

    def values(self):
        self.rig.refresh_from_db()
        return self.rig.values

    def tone(self):
        return self.values().input("headset").tone

    def save(self, **fields):
        return self.client.post(reverse("save-sound", args=["bench", "headset"]), fields)

    def tracks(self, **fields):
        return self.client.post(reverse("save-stems", args=["bench"]), fields)


class Chains(SoundCase):
    def test_the_step_opens_with_the_voice_and_knows_sounds_only(self):
        answer = self.client.get(reverse("sound", args=["bench"]))
        self.assertRedirects(answer, reverse("sound-of", args=["bench", "headset"]))
        for name in ("display-1", "laptop", "nobody"):
            page = self.client.get(reverse("sound-of", args=["bench", name]), follow=True)
            self.assertContains(page, "not in the rig any more, or it is off")

    def test_steps_are_switched_and_set_and_taken_back(self):
        self.save(**CHAIN, hum_on="on", suppression_on="on", low_cut="on")
        tone = self.tone()
        self.assertEqual((tone.gain_db, tone.hum, tone.suppression), (3.0, "auto", 70))
        self.assertEqual((tone.engine, tone.low_cut, tone.echo), ("light", True, 0))
        self.client.post(reverse("undo", args=["bench"]), {"to": "/rigs/bench/sound/at/headset/"})
        self.assertFalse(self.tone().cleans)

    def test_wrong_values_are_told_at_their_field_and_change_nothing(self):
        before = self.tone()
        for field, value, sentence in (
            ("suppression", "130", "noise suppression"),
            ("echo", "many", "echo reduction"),
            ("target_lufs", "-3", "-36 to -14"),
            ("gain_db", "", "gain"),
            ("hum", "55", "Select a valid choice"),
            ("delay_ms", "1e9", "-500 to 500"),
        ):
            answer = self.save(**{**CHAIN, field: value, "suppression_on": "on"})
            self.assertEqual(answer.status_code, 400, field)
            errors = answer.context["forms"]["chain"].errors
            self.assertEqual(list(errors), [field])
            self.assertIn(sentence.replace("-", "−"), str(errors[field][0]).replace("-", "−"))
            self.assertContains(answer, "is-invalid", status_code=400)
        answer = self.save(
            part="ducking", depth_db="90", attack_ms="1", hold_ms="0", release_ms="9"
        )
        errors = answer.context["forms"]["ducking"].errors
        self.assertEqual(set(errors), {"depth_db", "attack_ms", "release_ms"})
        self.assertEqual(self.tone(), before)

    def test_ducking_is_set_and_drawn(self):
        self.save(part="ducking", on="on", depth_db="18", attack_ms="200", hold_ms="300",
                  release_ms="500")  # fmt: skip
        self.assertEqual(self.values().ducking.depth_db, 18)
        page = self.client.get(reverse("sound-of", args=["bench", "headset"]))
        self.assertGreater(len(page.context["ducking"]["line"].split()), 200)

    def test_a_proposed_gain_of_the_background_lowers_it_in_the_scene(self):
        self.save(part="background", gain_db="-5.5")
        scene = self.values().default_scene
        gains = {s.input_id: s.gain_db for s in scene.sounds}
        self.assertEqual((gains["system"], gains["headset"]), (-17.5, 0.0))
        answer = self.client.get(reverse("sound-balance", args=["bench"]))
        self.assertEqual(answer.json()["word"], "in balance")


class BeforeAndAfter(SoundCase):
    def heard(self, name="headset"):
        item = self.values().input(name)
        raw = heard_path(self.rig, item, "raw")
        raw.parent.mkdir(parents=True, exist_ok=True)
        write_sound_file(raw, words(8) + hum(50, 8, 0.02) + noise(1, 8, 0.01), 48_000)
        heard_path(self.rig, item, "json").write_text(
            json.dumps({"at": time.time(), "compared": None})
        )

    def test_what_was_heard_goes_through_the_chain_again_when_it_changes(self):
        self.heard()
        self.save(**CHAIN, hum_on="on", suppression_on="on")
        address = reverse("sound-of", args=["bench", "headset"])
        self.assertContains(self.client.get(address), "Cancel<")
        do_jobs()
        page = self.client.get(address)
        self.assertNotContains(page, "Cancel<")
        rows = {r["name"]: r for r in page.context["heard"]["rows"]}
        self.assertLess(rows["Noise floor"]["after"], rows["Noise floor"]["before"] - 6)
        self.assertAlmostEqual(page.context["heard"]["hum"]["frequency_hz"], 50, delta=0.05)
        for which in ("before", "after"):
            audio = self.client.get(reverse("heard", args=["bench", "headset", which]))
            self.assertEqual(audio["Content-Type"], "audio/flac")
            self.assertGreater(len(b"".join(audio.streaming_content)), 10_000)
        nothing = self.client.get(reverse("heard", args=["bench", "headset", "etc"]))
        self.assertEqual(nothing.status_code, 404)

    def test_what_was_heard_goes_after_its_time_and_with_its_rig(self):
        self.heard()
        files = [heard_path(self.rig, self.values().input("headset"), w) for w in ("raw", "json")]
        forget_heard()
        self.assertTrue(all(f.exists() for f in files))
        long_ago = time.time() - HEARD_FOR_S - 1
        os.utime(files[0], (long_ago, long_ago))
        forget_heard()
        self.assertEqual([f.exists() for f in files], [False, True])
        self.client.post(reverse("delete-rig", args=["bench"]))
        self.assertTrue(files[1].exists())
        self.client.post(reverse("empty-bin"), {"until": timezone.now().isoformat()})
        self.assertFalse(files[1].exists())

    def test_music_is_neither_judged_as_a_voice_nor_to_be_cleaned(self):
        self.heard("system")
        save = reverse("save-sound", args=["bench", "system"])
        self.client.post(save, CHAIN)
        do_jobs()
        heard = self.client.get(reverse("sound-of", args=["bench", "system"])).context["heard"]
        self.assertIsNone(heard["proposal"])
        self.assertEqual([r["name"] for r in heard["rows"]], ["Loudness", "True peak"])
        before = self.values()
        self.client.post(save, {"part": "proposal"})
        self.assertEqual(self.values(), before)

    def test_the_proposed_chain_is_taken(self):
        self.assertEqual(self.save(part="proposal").status_code, 302)
        self.assertFalse(self.tone().cleans)
        self.heard()
        self.save(**CHAIN)
        do_jobs()
        self.save(part="proposal")
        do_jobs()
        tone = self.tone()
        self.assertEqual((tone.hum, tone.limiter, tone.low_cut), ("auto", True, True))
        self.assertGreaterEqual(tone.suppression, 75)
        page = self.client.get(reverse("sound-of", args=["bench", "headset"]))
        self.assertContains(page, "The proposed chain is set")


class Tracks(SoundCase):
    def test_a_set_keeps_the_scene_that_is_shown(self):
        answer = self.tracks(part="preset", preset="one", scene="scene-2")
        self.assertIn("scene=scene-2", answer["Location"])
        page = self.client.get(answer["Location"]).content.decode()
        forms = re.findall(
            r'name="part" value="(preset|new|delete|track)">(.*?)</form>', page, re.S
        )
        self.assertGreaterEqual(len(forms), 4)
        for part, body in forms:
            self.assertIn('name="scene" value="scene-2"', body, part)

    def test_sounds_go_to_tracks_by_crosspoints_and_sets(self):
        self.tracks(part="send", track="voice", input="system", on="on")
        sends = {t.id: [s.input_id for s in t.sends] for t in self.values().stems}
        self.assertEqual(sends, {"voice": ["headset", "system"], "system": ["system"]})
        self.tracks(part="preset", preset="one")
        self.assertEqual([t.name for t in self.values().stems], ["Mix"])
        self.client.post(reverse("undo", args=["bench"]), {"to": "/rigs/bench/sound/stems/"})
        self.assertEqual(len(self.values().stems), 2)

    def test_a_set_goes_on_holding_when_sounds_come_and_go(self):
        def sends():
            return {t.name: [s.input_id for s in t.sends] for t in self.values().stems}

        laptop = reverse("save-input", args=["bench", "laptop"])
        cross = reverse("set-crosspoint", args=["bench"])
        self.client.post(laptop, {"part": "on", "on": "on"})
        self.client.post(cross, {"cross": "laptop recorded on"})
        together = {"Voice": ["headset", "laptop"], "System audio": ["system"]}
        self.assertEqual(sends(), together)
        self.client.post(reverse("delete-input", args=["bench", "headset"]))
        self.assertEqual(sends(), {**together, "Voice": ["laptop"]})
        self.tracks(part="track", track="voice", name="Odile", channels="1")
        self.client.post(laptop, {"part": "on"})
        self.assertEqual(sends(), {"Odile": ["laptop"], "System audio": ["system"]})

    def test_tracks_are_made_renamed_and_deleted_and_what_goes_nowhere_is_said(self):
        self.tracks(part="new", name="For the editor", channels="1")
        self.tracks(part="track", track="voice", name="Odile", channels="2")
        self.tracks(part="delete", track="system")
        tracks = [(t.id, t.name, t.channels) for t in self.values().stems]
        self.assertEqual(tracks, [("voice", "Odile", 2), ("for-the-editor", "For the editor", 1)])
        page = self.client.get(reverse("stems", args=["bench"]))
        self.assertContains(page, "on no stem")
        self.assertContains(page, "System audio on no stem")

    def test_wrong_names_levels_and_places_are_told(self):
        before = self.values()
        for fields, sentence in (
            ({"part": "new", "name": "", "channels": "1"}, "needs a name"),
            ({"part": "new", "name": "voice", "channels": "1"}, "There is a track"),
            ({"part": "new", "name": "Wide", "channels": "6"}, "mono or stereo"),
            ({"part": "track", "track": "voice", "name": "System audio", "channels": "1"},
             "There is a track"),
            ({"part": "mix", "input": "system", "scene": "scene-1", "gain_db": "99"}, "level"),
        ):  # fmt: skip
            self.assertContains(self.tracks(**fields), sentence, status_code=400)
        for fields, sentence in (
            ({"part": "send", "track": "nowhere", "input": "system"}, "no stem “nowhere”"),
            ({"part": "send", "track": "voice", "input": "display-1"}, "is a picture"),
            ({"part": "preset", "preset": "none"}, "There are presets for"),
            ({"part": "mix", "input": "system", "scene": "scene-99", "gain_db": "0"}, "no scene"),
        ):
            answer = self.tracks(**fields)
            if answer.status_code == 302:
                answer = self.client.get(answer["Location"])
            self.assertContains(answer, sentence, status_code=answer.status_code)
        self.assertEqual(self.values(), before)
        self.assertContains(
            self.tracks(part="level", track="voice", input="headset", gain_db="loud"),
            "The level is a number. Type −60 to 20 dB.", status_code=400,
        )  # fmt: skip
        self.tracks(part="level", track="voice", input="headset", gain_db="-6")
        self.assertEqual(self.values().stems[0].sends[0].gain_db, -6.0)
        self.tracks(part="mix", input="system", scene="scene-2", gain_db="-20")
        gains = {s.input_id: s.gain_db for s in self.values().scene("scene-2").sounds}
        self.assertEqual(gains["system"], -20.0)
