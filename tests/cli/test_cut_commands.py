"""assemble and cuts, as somebody types them, with a tutorial of two takes."""

import contextlib
import io
import json
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

import av
import opentimelineio as otio
from django.conf import settings
from django.utils import timezone

from kettle_cli.words import parser
from kettle_core.errors import KettleError
from kettle_web.assembly.material import Material
from kettle_web.assembly.services import take_over, version_of
from kettle_web.frame.editing import undo
from kettle_web.models import Take, Tutorial, Version
from tests.web.test_pages import PageCase

S = 10**9


class CutCommands(PageCase):
    def setUp(self):
        super().setUp()
        self.tutorial = self.put_two_takes()
        Tutorial.objects.update(name="Fold lines")
        room = TemporaryDirectory()
        self.addCleanup(room.cleanup)
        self.room = Path(room.name)
        self.enterContext(mock.patch("kettle_cli.cut_commands.need_library"))
        self.enterContext(mock.patch("kettle_cli.export_commands.need_library"))
        self.enterContext(mock.patch("kettle_cli.composing.DATA", self.room))

    def kettle(self, *words):
        options = parser().parse_args([str(word) for word in words])
        quiet = contextlib.redirect_stderr(io.StringIO())
        with quiet, contextlib.redirect_stdout(io.StringIO()) as told:
            self.assertEqual(options.run(options), 0)
        return told.getvalue()

    def refused(self, *words):
        with self.assertRaises(KettleError) as caught, contextlib.redirect_stdout(io.StringIO()):
            self.kettle(*words)
        return str(caught.exception)

    def test_a_stretch_is_exported_as_frames_and_lengths_that_cannot_be_are_refused(self):
        out = self.room / "fold.zip"
        words = "export", "fold lines", "--out", out, "--lines", 480
        told = json.loads(self.kettle(*words, "--from", 1, "--until", 1.2, "--json"))
        self.assertEqual(told["frames"], 6)
        self.assertIn("nothing between", self.refused(*words, "--replace", "--from", 90))

    def test_a_tutorial_is_cut_in_a_file_and_composed(self):
        file, out = self.room / "fold.json", self.room / "fold.mp4"
        self.assertIn("2 pieces", self.kettle("cuts", "export", "fold lines", file))
        cuts = json.loads(file.read_text())
        # Of the first take a second is left out, the other one runs twice as fast.
        first, second = cuts["pieces"]
        rest = {**first, "id": "p3", "from_ns": 2 * S}
        cuts["pieces"] = [{**first, "until_ns": S}, rest, {**second, "percent": 200}]
        file.write_text(json.dumps(cuts))
        told = self.kettle("assemble", self.tutorial.pk, "--cuts", file, "--out", out)
        self.assertIn("135 frames, 4.5 s, of 3 pieces", told)
        with av.open(str(out)) as made:
            self.assertEqual(made.streams.video[0].frames, 135)
        self.assertIn("left alone", self.refused("assemble", "fold lines", "--out", out))
        # It is not the tutorial's until it is taken over, and undo takes that back.
        self.assertEqual(Version.objects.get().revision, 1)
        self.assertIn("3 pieces, 4.5 s", self.kettle("cuts", "import", "Fold lines", file))
        version = Version.objects.get()
        self.assertEqual(len(version.values.pieces), 3)
        undo(version)
        version.refresh_from_db()
        self.assertEqual(len(version.values.pieces), 2)

    def test_other_programs_cut_it_too(self):
        file = self.room / "fold.otio"
        self.kettle("cuts", "export", "Fold lines", file)
        timeline = otio.adapters.read_from_file(str(file))
        track = timeline.video_tracks()[0]
        self.assertTrue(all((settings.TAKES / c.media_reference.target_url.split("/")[1]).is_dir()
                            for c in track))  # fmt: skip
        del track[0]
        otio.adapters.write_to_file(timeline, str(file))
        self.assertIn("1 pieces, 3.0 s", self.kettle("cuts", "import", "Fold lines", file))
        self.kettle("cuts", "export", "Fold lines", file.with_suffix(".edl"))
        self.assertIn("FROM CLIP NAME", file.with_suffix(".edl").read_text())

    def test_what_was_never_cut_has_all_takes_also_later_ones(self):
        Take.objects.filter(folder="two").update(deleted_at=timezone.now())
        first = version_of(self.tutorial, Material(self.tutorial))
        self.assertEqual(len(first.values.pieces), 1)
        Take.with_deleted.update(deleted_at=None)
        again = version_of(self.tutorial, Material(self.tutorial))
        self.assertEqual((again.pk, len(again.values.pieces)), (first.pk, 2))
        take_over(version=again, material=Material(self.tutorial), cuts=first.values, words="cut")
        cut = version_of(self.tutorial, Material(self.tutorial))
        self.assertEqual(len(cut.values.pieces), 1)

    def test_what_cannot_be_is_told_in_words_and_nothing_is_changed(self):
        file = self.room / "cuts.json"
        version = version_of(self.tutorial, Material(self.tutorial))
        piece = {"id": "a", "take": "gone", "from_ns": 0, "until_ns": S}
        file.write_text(json.dumps({"pieces": [piece]}))
        for words, sentence in (
            (("cuts", "import", "Fold lines", file), "a take that is not in this tutorial"),
            (("cuts", "import", "Nothing", file), "There is no tutorial “Nothing”"),
            (("cuts", "import", "Fold lines", self.room / "a.txt"), "read from .json and .otio"),
            (("cuts", "export", "Fold lines", self.room / "a.txt"), "written as .json, .otio"),
            (("cuts", "export", "Fold lines", file), "left alone"),
            (("cuts", "export", "Fold lines", self.room / "no" / "a.json"), "is not there"),
            (("cuts", "export", "Fold lines", self.room / "b.json", "--version", "short"),
             "There is no version “short”. There are: “whole”"),
            (("assemble", "Fold lines", "--cuts", file, "--out", self.room / "a.mp4"), "not in"),
            (("assemble", "Fold lines", "--out", self.room / "a.mov"), "written as .mp4"),
            *((("export", "Fold lines", "--out", self.room / f"a.{kind}", *more), sentence)
              for kind, more, sentence in (
                  ("wav", ("--crf", 20), "--crf does nothing for a.wav"),
                  ("m4a", ("--portrait",), "--portrait does nothing for a.m4a"),
                  ("mp4", ("--av1",), "--av1 does nothing for a.mp4"),
                  ("mp4", ("--fps", 5), "--fps does nothing for a.mp4"),
                  ("gif", ("--lufs", -14), "--lufs does nothing for a.gif"),
                  ("mp4", ("--aside", 10), "--aside goes with --portrait"),
                  ("mp4", ("--max-mb", 3, "--crf", 20), "--crf does nothing beside --max-mb"),
              )),
            *((("export", settings.TAKES / "one", "--out", self.room / "a.wav", *more), "a take")
              for more in (("--cuts", file), ("--version", "whole"))),
        ):  # fmt: skip
            with self.subTest(words[:2]):
                self.assertIn(sentence, self.refused(*words))
        version.refresh_from_db()
        self.assertEqual(version.revision, 1)
        Tutorial.objects.create(name="fold LINES")
        self.assertIn("Several tutorials", self.refused("cuts", "import", "fold lines", file))

    def test_a_tutorial_or_a_take_is_exported_and_told_of(self):
        out = self.room / "fold.mp4"
        stretch = "--lines", 480, "--from", 3, "--until", 5
        told = self.kettle(
            "export", "fold lines", *stretch, "--max-mb", 0.1, "--out", out, "--json"
        )
        made = json.loads(told)
        self.assertLessEqual(out.stat().st_size, 100_000)
        self.assertEqual((made["frames"], made["size_bytes"]), (60, out.stat().st_size))
        self.assertTrue(all(found["good"] for found in made["findings"]))
        take, sound = settings.TAKES / "two", self.room / "two.flac"
        self.assertIn("Loudness", self.kettle("export", take, "--out", sound, "--lufs", "asis"))
        with av.open(str(sound)) as file:
            self.assertAlmostEqual(file.duration / 1e6, 3.0, delta=0.01)
        for words, message in (
            (("export", take, "--out", sound), "exists and was left alone"),
            (("export", take, "--out", self.room / "x.avi"), "kind"),
            (("export", take, "--out", self.room / "x.mp4", "--lines", "333"), "lines"),
            (("export", take, "--out", self.room / "x.mp4", "--max-mb", "0.001"), "at least"),
            (("export", take, "--out", self.room / "x.mp4", "--lufs", "loud"), "a number or asis"),
            (("export", "nobody's", "--out", self.room / "x.mp4"), "There is no tutorial"),
        ):
            with self.subTest(message):
                self.assertIn(message, self.refused(*words))
