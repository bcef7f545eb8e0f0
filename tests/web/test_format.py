"""The Format page: saved, tried while one types, refused at its field; trial, folder, names."""

import json
import os
import shutil
import subprocess
import tempfile
import time
from dataclasses import replace
from datetime import UTC, datetime
from fractions import Fraction
from pathlib import Path
from unittest import mock

import numpy as np
from django.conf import settings
from django.urls import reverse
from django.utils import timezone

from kettle_core.errors import TakeError
from kettle_core.picture.quality import Quality
from kettle_core.rig.format import Rate
from kettle_core.rig.trial import Proposal, TrialPoint, ladder
from kettle_engine.trial.kept import keep_trial, trial_folder
from kettle_engine.trial.running import InputTrial, Trial
from kettle_media.roots import measure_speed, root_path
from kettle_web.format.work import FRAMES, LONGEST_TRIAL_S, forget_frames
from kettle_web.library.bin import empty_bin
from kettle_web.models import FolderSpeed, Job, Rig, Take
from kettle_web.takes.reading import look_after_takes
from tests.small_disk import small_disk
from tests.web.test_pages import PageCase
from tests.web.working import do_jobs

TRACK = {
    "control": "quality", "crf": 18, "kbps": "", "speed": "superfast", "keyframe_s": "1",
    "scale": "1", "fps": "0",
}  # fmt: skip
PICTURE = {"frame_width": 1920, "frame_height": 1080, "fps": "30", "scaling": "area"}
FILES = {"root": "", "pattern": "{rig}-{date}-take-{take}-{track}", "sound_codec": "flac"}
PROGRAM = {
    "control": "quality", "crf": 19, "kbps": "", "speed": "veryfast", "keyframe_s": "2",
    "sound_codec": "aac", "sound_kbps": 192, "sample_rate_hz": "48000", "channels": "2",
}  # fmt: skip


def kept(rig, fine=(0.95, 0.97, 0.985, 0.99, 0.995, 0.999)):
    """A trial of a rig's display, kept as if it had been made."""
    values = rig.values
    track = values.format.screens
    settings_ = ladder(track, values.input("display-1").used_mode)
    points = tuple(
        TrialPoint(t, 100.0 * 2**n, 60.0, 0.8, Quality(q, q, q, 40.0, 38.0))
        for n, (t, q) in enumerate(zip(settings_, fine, strict=True))
    )
    parts = tuple(np.full((32, 72), 40 * n, np.uint8) for n in range(7))
    found = InputTrial(
        "display-1", points, settings_.index(track), Proposal(2, "Main display: CRF 22 will do."),
        0.2, parts,
    )  # fmt: skip
    return keep_trial(
        trial_folder(settings.DATA, rig.slug), values, Trial((found,), 0.8), datetime.now(UTC)
    )


class FormatCase(PageCase):
    def post(self, part, name="save-format", **values):
        address = reverse(name, args=["demo"])
        return self.client.post(address, {"part": part, **values}, follow=True)

    @property
    def format(self):
        self.rig.refresh_from_db()
        return self.rig.values.format

    def page(self):
        return self.client.get(reverse("format", args=["demo"]))


class Saving(FormatCase):
    def test_every_part_is_saved_and_undone(self):
        self.post("picture", **{**PICTURE, "frame_width": 1280, "frame_height": 720,
                                "fps": "30000/1001", "scaling": "lanczos"})  # fmt: skip
        self.post("track", row="screens", **{**TRACK, "control": "constant", "kbps": 2500})
        self.post("own", row="webcam-1", own="on")
        self.post("track", row="webcam-1", **{**TRACK, "scale": "1/2", "fps": "15"})
        self.post("program", **{**PROGRAM, "sound_codec": "opus", "channels": "1"})
        self.post("files", **{**FILES, "pattern": "{tutorial} {take}", "sound_codec": "pcm24"})
        made = self.format
        self.assertEqual((made.frame_size, str(made.fps)), ((1280, 720), "30000/1001"))
        self.assertEqual(self.rig.values.scenes[0].layers[0].box.width, 1280)
        self.assertEqual(made.screens.rate, Rate("constant", 18, 2500))
        self.assertEqual(made.webcams.rate.control, "ceiling")
        own = self.rig.values.input("webcam-1").track
        self.assertEqual((own.scale, own.fps), (Fraction(1, 2), 15))
        self.assertEqual((made.program.sound_codec, made.program.channels), ("opus", 1))
        self.assertEqual(made.files.pattern, "{tutorial} {take}")
        for _ in range(6):
            self.client.post(
                reverse("undo", args=["demo"]), {"to": reverse("format", args=["demo"])}
            )
        self.assertEqual(self.format, type(made)())

    def test_what_is_wrong_is_said_at_its_field_and_nothing_changes(self):
        before = self.format
        cases = (
            ("picture", {**PICTURE, "frame_width": 1281}, "Type 1280 or 1282."),
            ("picture", {**PICTURE, "frame_width": 0}, "can&#x27;t be below 64 px"),
            ("picture", {**PICTURE, "frame_height": 10**9}, "can&#x27;t be above 4320 px"),
            ("picture", {**PICTURE, "fps": "1000000000"}, "not offered"),
            ("picture", {**PICTURE, "fps": "0"}, "not offered"),
            ("track", {"row": "screens", **TRACK, "control": "constant", "kbps": 3}, "below 50"),
            ("track", {"row": "screens", **TRACK, "crf": 99}, "can&#x27;t be above 45"),
            (
                "program",
                {**PROGRAM, "sound_codec": "opus", "sample_rate_hz": "44100"},
                "48 kHz only",
            ),
            ("files", {**FILES, "pattern": "../{rig}"}, "single dots"),
            ("files", {**FILES, "pattern": "{rig}\0"}, "No name can have"),
            ("files", {**FILES, "pattern": "{who}"}, "no field {who}"),
            ("files", {**FILES, "pattern": "x" * 500}, "at most 200 characters"),
            ("files", {**FILES, "root": "/etc"}, "may not lie in this folder"),
            ("size", {"size": "1x1"}, "below 64 px"),
        )
        for part, values, sentence in cases:
            with self.subTest(sentence):
                self.assertContains(self.post(part, **values), sentence, status_code=400)
        self.assertContains(
            self.post("kazoo"), "can’t be set on the Format page".replace("’", "&#x27;")
        )
        self.assertContains(self.post("track", row="gone", **TRACK), "has no input “gone”")
        self.assertEqual(self.format, before)

    def test_what_is_typed_is_worked_out_and_not_kept(self):
        before = self.format
        values = {"row": "webcams", **TRACK, "control": "constant", "kbps": 4000}
        page = self.post("track", name="try-format", **values)
        self.assertContains(page, "4.00")
        self.assertEqual(self.format, before)
        self.assertNotContains(self.page(), "4.00")
        page = self.post("files", name="try-format", **{**FILES, "pattern": "{take}_{track}"})
        self.assertContains(page, "01_main-display.mkv")

    def test_facts_follow_a_length_a_size_and_a_line(self):
        self.post("program", **{**PROGRAM, "control": "constant", "kbps": 808, "crf": 19})
        query = {"minutes": 10, "size_mb": 75, "line_mbps": 1}
        page = self.client.get(reverse("format", args=["demo"]), query)
        # 1000 kbit/s in all: 75 MB in ten minutes, which take ten minutes on 1 Mbit/s.
        self.assertEqual(round(page.context["program_bytes"][0] / 1e6), 75)
        self.assertAlmostEqual(page.context["upload_s"][0], 600, delta=6)
        self.assertAlmostEqual(page.context["longest_s"], 600, delta=20)
        page = self.client.get(reverse("format", args=["demo"]), {"minutes": "0", "size_mb": "x"})
        self.assertContains(page, "can&#x27;t be below 1 min")

    def test_starting_points_and_proposed_sizes_are_one_press(self):
        self.post("purpose", purpose="hours")
        self.assertEqual((self.format.fps, self.format.webcams.scale), (15, Fraction(1, 2)))
        self.post("size", size="1280x720")
        page = self.page()
        self.assertContains(page, "67 % of its size")
        self.assertContains(page, "Make the frame 1920 × 1080 px: 1:1")
        self.assertContains(page, "look", html=False)
        self.post("size", size="1920x1080")
        self.assertNotContains(self.page(), "67 % of its size")


class Trials(FormatCase):
    def test_without_the_engine_and_in_a_take_nothing_is_tried(self):
        page = self.client.post(reverse("order-trial", args=["demo"]), follow=True)
        self.assertContains(page, "engine is not running")
        with mock.patch("kettle_web.frame.engine.EngineClient") as client:
            client.return_value.ask.return_value = {"state": "recording"}
            page = self.client.post(reverse("order-trial", args=["demo"]), follow=True)
        self.assertContains(page, "A take is being recorded, so nothing was tried")
        self.assertFalse(Job.objects.exists())

    def test_the_proposal_is_taken_by_one_press_and_undone_by_one(self):
        kept(self.rig)
        page = self.page()
        self.assertContains(page, "Main display: CRF 22 will do.")
        row = next(r for r in page.context["rows"] if r.id == "display-1")
        self.assertEqual(row.cost.basis, "trial")
        self.post("", name="take-proposal", row="display-1", number="2")
        self.assertEqual(self.format.screens.rate.crf, 22)
        self.assertContains(self.page(), "It is set so")
        self.client.post(reverse("undo", args=["demo"]))
        self.assertEqual(self.format.screens.rate.crf, 18)

    def test_where_others_are_of_the_kind_the_input_gets_a_format_of_its_own(self):
        kept(self.rig)
        inputs = self.rig.values.inputs
        self.rig.document = self.rig.write(
            replace(self.rig.values, inputs=tuple(replace(i, recorded=True) if not i.is_still else i
                                                  for i in inputs))
        )  # fmt: skip
        self.rig.save()
        self.post("", name="take-proposal", row="display-1", number="2")
        self.assertEqual(self.format.screens.rate.crf, 18)
        self.assertEqual(self.rig.values.input("display-1").track.rate.crf, 22)

    def test_what_was_not_tried_is_refused_and_what_changed_since_is_said(self):
        kept(self.rig)
        for row, number in (("display-1", "9"), ("display-1", "-1"), ("kazoo", "1"), ("", "")):
            page = self.post("", name="take-proposal", row=row, number=number)
            self.assertContains(page, "was not tried")
        self.post("track", row="screens", **{**TRACK, "crf": 31})
        self.assertContains(self.page(), "The present setting of Main display was not tried.")
        with mock.patch("kettle_engine.trial.kept.machine_name", return_value="another, 8 cores"):
            self.assertContains(self.page(), "It was made on another machine")

    def test_the_enlarged_parts_are_the_rigs_own_and_nothing_else_is_served(self):
        kept(self.rig)
        crop = reverse("trial-crop", args=["demo", "display-1", 3])
        answer = self.client.get(crop)
        self.assertEqual((answer["Content-Type"], answer.content[:4]), ("image/png", b"\x89PNG"))
        for name, number in (("display-1", 7), ("webcam-1", 0), ("trial", 0)):
            answer = self.client.get(reverse("trial-crop", args=["demo", name, number]))
            self.assertEqual(answer.status_code, 404)

    def test_it_goes_with_the_rig_and_frames_that_were_left_behind_go(self):
        kept(self.rig)
        folder = trial_folder(settings.DATA, self.rig.slug)
        left, now = (settings.DATA / "trials" / f"{FRAMES}{name}" for name in ("left", "now"))
        for frames in (left, now):
            frames.mkdir()
            (frames / "display-1.i420").write_bytes(b"1")
        os.utime(left, (0, time.time() - LONGEST_TRIAL_S - 1))
        forget_frames()
        self.assertEqual((left.exists(), now.exists()), (False, True))
        shutil.rmtree(now)
        Rig.objects.update(deleted_at=timezone.now())
        empty_bin(until=timezone.now())
        self.assertFalse(folder.exists())

    def test_a_damaged_trial_is_none(self):
        kept(self.rig)
        path = trial_folder(settings.DATA, self.rig.slug) / "trial.json"
        for text in ("", "{}", json.dumps({**json.loads(path.read_text()), "version": 99})):
            path.write_text(text)
            self.assertContains(self.page(), "Encodes what is on the inputs now")


class Folders(FormatCase):
    def setUp(self):
        super().setUp()
        self.other = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.enterContext(mock.patch.dict(os.environ, {"KETTLE_ROOTS": f"{self.other}:relative"}))

    def test_an_allowed_folder_is_offered_and_its_takes_are_found(self):
        self.post("files", **{**FILES, "root": str(self.other)})
        self.assertEqual(self.format.files.root, str(self.other))
        self.assertNotContains(self.page(), "relative")
        self.put_take("elsewhere").rename(self.other / "elsewhere")
        look_after_takes()
        take = Take.objects.get()
        self.assertEqual((take.root, take.path), (str(self.other), self.other / "elsewhere"))

    def test_one_that_is_gone_full_or_a_link_is_said_and_nothing_is_recorded(self):
        self.post("files", **{**FILES, "root": str(self.other)})
        self.other.rename(self.other.with_name(f"{self.other.name}-away"))
        self.addCleanup(lambda: self.other.mkdir(exist_ok=True))
        self.assertContains(self.page(), "is not there.")
        answer = self.client.post(
            reverse("record-start", args=["demo"]), {"countdown_s": 0},
            headers={"accept": "application/json"},
        )  # fmt: skip
        self.assertIn("Nothing was recorded", answer.json()["error"])
        self.other.symlink_to(self.other.with_name(f"{self.other.name}-away"))
        self.assertContains(self.page(), "is a link to another place")
        self.other.unlink()
        self.other.with_name(f"{self.other.name}-away").rename(self.other)
        with mock.patch.dict(os.environ, {"KETTLE_ROOTS": ""}):
            self.assertContains(self.page(), "not allowed here")
            with self.assertRaisesRegex(TakeError, "none of the folders"):
                root_path(settings.TAKES, str(self.other))

    def test_one_that_can_only_be_read_is_said(self):
        with small_disk(self.other / "disk", 8) as disk:
            subprocess.run(["mount", "-o", "remount,ro", str(disk)], check=True)
            with mock.patch.dict(os.environ, {"KETTLE_ROOTS": str(disk)}):
                self.post("files", **{**FILES, "root": str(disk)})
                self.assertContains(self.page(), "can&#x27;t be written to.")
                with self.assertRaisesRegex(TakeError, "Nothing was recorded"):
                    root_path(settings.TAKES, str(disk))

    def test_how_fast_it_is_is_measured_as_a_job(self):
        self.client.post(reverse("folder-speed", args=["demo"]))
        do_jobs()
        job = Job.objects.get()
        self.assertEqual((job.state, job.kind), ("done", "folder-speed"))
        # It is known for good, not only as long as its job is.
        job.delete()
        self.assertGreater(FolderSpeed.objects.get(root="").bytes_per_s, 1e6)
        self.assertContains(self.page(), "Fast enough")
        self.assertEqual([p for p in settings.TAKES.iterdir() if "speed" in p.name], [])

    def test_a_full_disk_is_said_and_left_as_it_was(self):
        with small_disk(self.other / "disk", 8) as disk:
            with self.assertRaisesRegex(TakeError, "no room for a test of 64 MB"):
                measure_speed(disk)
            self.assertEqual(list(disk.iterdir()), [])


class Handing(FormatCase):
    def test_what_is_downloaded_is_called_by_the_pattern_and_todays_names(self):
        self.put_take("found")
        look_after_takes()
        take = Take.objects.get()
        Take.objects.update(rig=self.rig)
        take.tutorial.name = "Planning a signature: ½ sheet"
        take.tutorial.save()
        self.post("files", **{**FILES, "pattern": "{tutorial}_{take}"})
        answer = self.client.get(reverse("take-file", args=[take.pk, "track", "display-1"]))
        self.assertIn(
            'filename="planning-a-signature-1-2-sheet_01-main-display.mkv"',
            answer["Content-Disposition"],
        )
