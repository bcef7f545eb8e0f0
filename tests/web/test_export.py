"""The export page: what it offers, what it refuses, what is made in the background."""

import shutil
from dataclasses import replace
from pathlib import Path
from unittest import mock

from django.conf import settings
from django.urls import reverse
from django.utils import timezone

from kettle_core.assembly.cut_list import Known
from kettle_media.assembly import export_file
from kettle_web.export.demo import demo_cuts
from kettle_web.export.services import delete_export
from kettle_web.jobs.services import LONG, cancel, order
from kettle_web.library.services import delete_takes
from kettle_web.models import Export, Job, Take
from tests.web.test_assembly import AssemblyCase
from tests.web.working import do_jobs

OWN = {"kind": "mp4", "lines": "480", "crf": "30", "max_mb": "", "speed": "ultrafast",
       "sound_kbps": "96", "lufs": "-20"}  # fmt: skip


class Exports(AssemblyCase):
    def setUp(self):
        super().setUp()
        self.addCleanup(shutil.rmtree, settings.DATA / "exports", ignore_errors=True)
        self.change("out", ("p1", 1.0), ("p1", 4.0))
        Job.objects.all().delete()

    def ask(self, **values):
        return self.client.post(self.address("new-export"), values)

    def exports(self):
        return self.client.get(self.address("export"))

    def test_a_file_is_made_looked_at_played_and_deleted(self):
        (settings.DATA / "exports").mkdir()
        (settings.DATA / "exports" / ".left.part.mp4").touch()
        self.assertContains(self.exports(), "For a course")
        self.assertContains(self.exports(), "Nothing was made of this version yet")
        self.assertRedirects(self.ask(**OWN), self.address("export"))
        self.assertContains(self.exports(), "Export")
        do_jobs()
        row = Export.objects.get()
        self.assertEqual(row.job.state, Job.State.DONE, row.job.sentence)
        self.assertEqual(row.result["frames"], 120)
        page = self.exports()
        for words in (row.file, "120 of 120", "-20 wanted", "Download"):
            self.assertContains(page, words)
        address = reverse("export-file", args=[row.pk])
        part = self.client.get(address, headers={"Range": "bytes=4-7"})
        self.assertEqual((part.status_code, part["Content-Length"]), (206, "4"))
        kept = self.client.get(f"{address}?download")
        self.assertIn(row.file, kept["Content-Disposition"])
        # It is of the cut list as it was, which the page says.
        self.change("back", ("p1", 0), ("p1", 4))
        self.assertContains(self.exports(), "as it was")
        self.client.post(reverse("delete-export", args=[row.pk]))
        self.assertEqual(self.client.get(address).status_code, 404)
        self.client.post(reverse("empty-bin"), {"until": timezone.now().isoformat()})
        self.assertEqual(list((settings.DATA / "exports").iterdir()), [])

    def test_two_of_the_same_have_names_of_their_own_and_purposes_are_made_as_they_say(self):
        for _ in range(2):
            self.ask(purpose="voice")
        files = [row.file for row in Export.objects.order_by("pk")]
        self.assertEqual([Path(f).suffix for f in files], [".m4a", ".m4a"])
        self.assertEqual(len(set(files)), 2)
        self.assertEqual(Export.objects.first().order["kind"], "m4a")
        cancel(job=Export.objects.first().job)
        self.assertContains(self.exports(), "Make it after all")
        self.client.post(reverse("export-again", args=[Export.objects.first().pk]))
        self.assertEqual(Export.objects.first().job.state, Job.State.WAITING)

    def test_a_stretch_is_exported_as_a_moving_picture_that_is_looked_at(self):
        marked = {"from_s": "0.5", "until_s": "1.5"}
        page = self.client.get(self.address("export"), marked)
        self.assertContains(page, "Only the stretch from 0:00 to 0:02 is exported")
        self.assertContains(page, 'name="from_s" value="0.5"')
        self.ask(purpose="inline", **marked)
        do_jobs()
        row = Export.objects.get()
        self.assertEqual(row.job.state, Job.State.DONE, row.job.sentence)
        self.assertEqual((row.path.suffix, row.result["frames"]), (".gif", 12))
        page = self.exports()
        self.assertContains(page, "GIF, 480 lines, at most 8 MB, 0:00 to 0:02")
        self.assertContains(page, f'<img class="export-video" src="/exports/{row.pk}')

    def test_what_cannot_be_is_said_at_its_field_and_nothing_is_ordered(self):
        for wrong, words in (
            ({"crf": "0"}, "A quality is 1 to 51"),
            ({"max_mb": "0.001"}, "at least 0.1 MB"),
            ({"max_mb": "-1"}, "more than 0 MB"),
            ({"lufs": "3"}, "−40 to −6 LUFS"),
            ({"sound_kbps": "1"}, "32 to 512"),
            ({"lines": "7"}, "Select a valid choice"),
            ({"from_s": "90"}, "nothing between these two times"),
            ({"until_s": "-1"}, "0 or more seconds"),
            ({"shape": "portrait", "aside": "101"}, "0 (left) to 100 (right)"),
            ({"kind": "gif", "fps": "0"}, "1 to 30 frames"),
        ):
            answer = self.ask(**{**OWN, **wrong})
            self.assertContains(answer, words, status_code=400)
            self.assertContains(answer, "is-invalid", status_code=400)
        self.change("out", ("p1", 0), ("p2", 3))
        self.assertContains(self.exports(), "nothing to be exported")
        self.assertEqual(self.ask(**OWN).status_code, 400)
        self.assertEqual(Export.objects.count(), 0)

    def test_a_take_that_goes_or_a_disk_that_fills_is_told_and_leaves_nothing(self):
        self.ask(**OWN)
        delete_takes(takes=[Take.objects.get(folder="two")])
        do_jobs()
        row = Export.objects.get()
        self.assertEqual(row.job.state, Job.State.FAILED)
        self.assertIn("not in this tutorial", row.job.sentence)
        folder = settings.DATA / "exports"
        self.assertEqual([*folder.iterdir()] if folder.exists() else [], [])

    def test_one_that_is_deleted_while_it_is_made_leaves_no_file(self):
        self.ask(**OWN)
        made = export_file.check_export

        def meanwhile(*all_):
            delete_export(export=Export.objects.get())
            return made(*all_)

        with mock.patch.object(export_file, "check_export", meanwhile):
            do_jobs()
        self.assertEqual(Export.objects.count(), 0)
        self.assertEqual(list((settings.DATA / "exports").iterdir()), [])


class Demo(AssemblyCase):
    def test_the_demo_is_cut_and_exported_once(self):
        self.addCleanup(shutil.rmtree, settings.DATA / "exports", ignore_errors=True)
        Job.objects.all().delete()
        longer = {one.take: 40 * 10**9 for one in self.version.values.pieces}
        cuts = demo_cuts(whole(self.version.values, longer), Known(longer))
        self.assertEqual(len(cuts.cards), 2)
        self.assertEqual([p.percent for p in cuts.shown].count(400), 1)
        self.assertAlmostEqual(float(cuts.length_ns) / 10**9, 80 - 1.8 - 2.7 + 6, delta=0.1)
        changed = mock.patch("kettle_web.export.demo.demo_cuts", lambda cuts, _: cuts)
        order(kind="demo-cut", queue=LONG, subject=f"tutorial:{self.tutorial.pk}", title="cut")
        with changed:
            do_jobs()
        self.assertEqual(Export.objects.get().job.state, Job.State.DONE)


def whole(cuts, lengths):
    return replace(cuts, pieces=tuple(replace(p, until_ns=lengths[p.take]) for p in cuts.pieces))
