"""clean, loudness, align and balance, as somebody types them."""

import json
import unittest

import av
import numpy as np

from kettle_core.sound.stage import RATE_HZ
from kettle_media.sound.sound_file import SoundFile, SoundFileWriter, write_sound_file
from kettle_studio.sounds import sound_of
from kettle_studio.sounds import voice as lesson_voice
from tests.cli.test_commands import kettle
from tests.core.sound.signals import hum, noise, si_sdr_db, words
from tests.fixtures import ROOT

FOLDER = ROOT / "sounds"


def whole(path):
    return np.concatenate(list(SoundFile(path).blocks()), axis=1)


def written(name, sound, rate_hz=RATE_HZ):
    FOLDER.mkdir(exist_ok=True)
    write_sound_file(FOLDER / name, sound, rate_hz)
    return str(FOLDER / name)


def written_floats(name, sound):
    """A WAV of 32-bit floats, which can hold what no device gives."""
    FOLDER.mkdir(exist_ok=True)
    with av.open(str(FOLDER / name), "w", format="wav") as container:
        stream = container.add_stream("pcm_f32le", rate=RATE_HZ, layout="mono", format="flt")
        frame = av.AudioFrame.from_ndarray(sound.astype(np.float32), format="flt", layout="mono")
        frame.sample_rate = RATE_HZ
        container.mux(stream.encode(frame))
        container.mux(stream.encode(None))
    return str(FOLDER / name)


class Cleaning(unittest.TestCase):
    def test_noise_and_hum_go_and_every_sample_stays_where_it_was(self):
        voice = 0.3 * sound_of(lesson_voice())[:, RATE_HZ : RATE_HZ * 8 - 77]
        seconds = voice.shape[1] / RATE_HZ
        source = written("noisy.wav", voice + noise(1, seconds, 0.01) + hum(50.04, seconds, 0.03))
        out = FOLDER / "clean.wav"
        found = json.loads(
            kettle("clean", source, str(out), "--suppress", "100", "--hum", "auto", "--json").stdout
        )
        cleaned = whole(out)
        self.assertEqual(cleaned.shape, voice.shape)
        lags = [si_sdr_db(np.roll(cleaned, n), voice) for n in (-2, -1, 0, 1, 2)]
        self.assertEqual(int(np.argmax(lags)), 2)
        self.assertAlmostEqual(found["hum"]["frequency_hz"], 50.04, delta=0.02)
        gained = found["after"]["voice_to_noise_db"] - found["before"]["voice_to_noise_db"]
        self.assertGreater(gained, 15)
        self.assertAlmostEqual(found["before"]["noise_floor_dbfs"], -30, delta=1)

    def test_any_rate_and_channel_count_keeps_its_length(self):
        for rate_hz, channels, count in ((8_000, 1, 4_001), (44_100, 2, 30_011), (192_000, 8, 777)):
            name = f"{rate_hz}-{channels}.flac"
            source = written(name, noise(2, count / RATE_HZ, 0.1, channels)[:, :count], rate_hz)
            out = FOLDER / f"out-{rate_hz}.wav"
            kettle("clean", source, str(out), "--suppress", "50", "--engine", "light")
            cleaned = SoundFile(out)
            self.assertEqual((cleaned.rate_hz, cleaned.channels), (rate_hz, channels))
            self.assertEqual(whole(out).shape[1], whole(FOLDER / name).shape[1])

    def test_bad_files_and_values_are_a_sentence_and_write_nothing(self):
        text = FOLDER / "text.wav"
        FOLDER.mkdir(exist_ok=True)
        text.write_text("not a sound")
        empty = FOLDER / "empty.wav"
        SoundFileWriter(empty, 1, RATE_HZ).close()
        good, out = written("good.wav", words(1)), FOLDER / "never.wav"
        for words_, sentence in (
            ((str(text), str(out)), "text.wav cannot be used as sound"),
            ((str(empty), str(out)), "empty.wav is empty; there is nothing to clean"),
            ((str(FOLDER / "none.wav"), str(out)), "There is no file"),
            ((good, str(out), "--suppress", "130"), "--suppress goes from 0 to 100 %, got 130"),
            ((good, str(FOLDER / "x.mp3")), "Sound is written to .wav or .flac"),
            ((good, good), "cannot go over its source"),
        ):
            done = kettle("clean", *words_)
            self.assertEqual(done.returncode, 2, done.stderr)
            self.assertIn(sentence, done.stderr)
            self.assertNotIn("Traceback", done.stderr)
        self.assertEqual([p.name for p in FOLDER.glob("*never*")], [])


class Measuring(unittest.TestCase):
    def test_loudness_tells_levels_peaks_and_clips(self):
        tone = 0.1 * np.sin(2 * np.pi * 997 * np.arange(5 * RATE_HZ) / RATE_HZ)
        tone[[50_000, 50_001, 90_000]] = 1.0
        found = json.loads(kettle("loudness", written("t.wav", tone[None]), "--json").stdout)
        self.assertAlmostEqual(found["integrated_lufs"], -23.0, delta=0.2)
        self.assertEqual((found["clipped_samples"], found["sample_peak_dbfs"]), (3, -0.0))
        self.assertEqual(found["clips_at_s"], [1.0417, 1.875])

    def test_what_is_not_a_number_is_silent_and_counted(self):
        broken = np.zeros((1, RATE_HZ))
        broken[0, 100:130] = np.nan
        broken[0, 200] = np.inf
        found = json.loads(kettle("loudness", written_floats("nan.wav", broken), "--json").stdout)
        self.assertEqual((found["not_numbers"], found["integrated_lufs"]), (31, -120.0))
        one = json.loads(kettle("loudness", written("1.wav", np.zeros((1, 1))), "--json").stdout)
        self.assertEqual(one["true_peak_dbtp"], -120.0)

    def test_align_finds_the_offset_across_sample_rates_or_says_that_nothing_is_common(self):
        voice = words(8, seed=3)
        late = np.concatenate([noise(1, 0.25, 0.001), voice], axis=1)
        found = json.loads(
            kettle("align", written("a.wav", voice), written("b.flac", late), "--json").stdout
        )
        self.assertAlmostEqual(found["offset_ms"], 250.0, delta=0.1)
        self.assertGreater(found["confidence"], 0.5)
        other = kettle("align", written("n.wav", noise(4, 8, 0.1)), written("a.wav", voice))
        self.assertEqual(other.returncode, 1)
        self.assertIn("have no common sound", other.stdout)

    def test_balance_has_a_verdict_and_a_gain(self):
        voice, music = written("v.wav", words(6)), written("m.wav", noise(5, 9, 0.05, 2))
        found = json.loads(kettle("balance", voice, music, "--json").stdout)
        self.assertEqual(found["word"], "too loud")
        self.assertLess(found["proposed_gain_db"], -5)
        silent = written("s.wav", np.zeros((1, RATE_HZ), np.float32))
        self.assertEqual(kettle("balance", silent, music).returncode, 1)
