"""What is deleted lies in the bin, whole; one way of undo for all that is done."""

import shutil
import threading
from contextlib import suppress
from datetime import timedelta

from django.db import connection
from django.test import TransactionTestCase
from django.urls import reverse
from django.utils import timezone

from kettle_core.errors import TakeError
from kettle_web.library.bin import bring_back, empty_bin
from kettle_web.library.numbers import next_number
from kettle_web.models import Export, Folder, Take, Tutorial, Version
from kettle_web.rigs.services import make_demo_rig
from kettle_web.takes.reading import look_after_takes
from tests.web.test_library import make_takes
from tests.web.test_pages import PageCase


def made_file(version, name="a.mp4", data=b"12345"):
    """A row and its file, as if it had been made."""
    export = Export.objects.create(
        version=version, order={"kind": "mp4"}, file=name, result={"size_bytes": len(data)}
    )
    export.path.parent.mkdir(exist_ok=True)
    export.path.write_bytes(data)
    return export


class Bin(PageCase):
    def setUp(self):
        super().setUp()
        self.tutorial = Tutorial.objects.create(name="Sewing")
        self.whole = self.tutorial.versions.get()
        self.short = Version.objects.create(tutorial=self.tutorial, name="short")

    def rows(self, **asked):
        found = self.client.get(reverse("bin"), asked).context["bin"].rows
        return [(row.kind, row.name) for row in found]

    def back(self, key):
        return self.client.post(reverse("bring-back"), {"key": key}, follow=True)

    def test_a_version_lies_in_it_with_its_files_until_it_is_emptied(self):
        kept, file = made_file(self.whole, "kept.mp4"), made_file(self.short)
        self.client.post(reverse("delete-version", args=[self.short.pk]))
        self.assertTrue(file.path.exists())
        self.assertEqual(self.rows(), [("version", "short")])
        self.back(self.short.key)
        self.assertEqual(self.rows(), [])
        self.assertEqual(Export.objects.get(pk=file.pk).version.name, "short")
        self.client.post(reverse("delete-version", args=[self.short.pk]))
        self.client.post(reverse("empty-bin"), {"until": timezone.now().isoformat()})
        self.assertEqual([kept.path.exists(), file.path.exists()], [True, False])
        self.assertEqual(list(Export.with_deleted.all()), [kept])

    def test_a_deleted_file_stays_and_its_page_takes_that_back(self):
        file = made_file(self.whole)
        page = self.client.post(reverse("delete-export", args=[file.pk]), follow=True)
        self.assertContains(page, "“a.mp4” deleted")
        self.assertEqual((self.rows(), file.path.exists()), ([("file", "a.mp4")], True))
        # An old page means another change than the newest one.
        undo = reverse("undo-exports", args=[self.whole.pk])
        self.client.post(undo, {"undo_of": "999999"})
        self.assertFalse(Export.objects.exists())
        self.client.post(undo)
        self.assertEqual(Export.objects.get(), file)
        self.client.post(reverse("delete-export", args=[file.pk]))
        self.client.post(reverse("empty-bin"), {"until": timezone.now().isoformat()})
        self.assertFalse(file.path.exists())

    def test_all_of_it_is_listed_found_and_brought_back(self):
        takes = make_takes(70, self.tutorial)
        Take.objects.update(deleted_at=timezone.now() - timedelta(days=1))
        Folder.objects.create(name="Spring", deleted_at=timezone.now())
        self.client.post(reverse("delete-rig", args=["demo"]))
        first, second = self.rows(), self.rows(page=2)
        self.assertEqual((len(first), len(second)), (60, 12))
        self.assertEqual(first[:2], [("rig", "Bench rig"), ("folder", "Spring")])
        self.assertEqual(self.rows(q="bench RIG"), [("rig", "Bench rig")])
        self.assertContains(self.client.get(reverse("start")), "72 things that were deleted")
        self.assertContains(self.client.get(reverse("bin")), "70 takes, 1 rig and 1 folder")
        self.assertContains(self.back(self.rig.key), "“Bench rig” is back")
        self.back(takes[3].key)
        self.assertEqual(Take.objects.get().name, "Take 3")
        # Emptied in another tab.
        self.client.post(reverse("empty-bin"), {"until": timezone.now().isoformat()})
        for key in (takes[5].key, "take:x", "job:1", "", "tutorial:1"):
            self.assertContains(self.back(key), "is gone for good", status_code=400)

    def test_one_whose_name_another_one_has_by_now_stays_in_it(self):
        folder = Folder.objects.create(name="Spring")
        self.client.post(reverse("folders"), {"delete": folder.pk})
        Folder.objects.create(name="Spring")
        told = "There is another “Spring” by now"
        self.assertContains(self.back(folder.key), told, status_code=400)
        undo = self.client.post(reverse("undo-library"), follow=True)
        self.assertContains(undo, told, status_code=400)
        self.assertEqual(Folder.objects.count(), 1)

    def test_a_folder_comes_back_with_those_it_lies_in(self):
        spring = Folder.objects.create(name="Spring")
        drafts = Folder.objects.create(name="Drafts", parent=spring)
        self.client.post(reverse("folders"), {"delete": spring.pk})
        self.back(drafts.key)
        self.assertEqual(Folder.objects.count(), 2)


class Undo(PageCase):
    def test_a_tutorials_name_and_description_are_taken_back_as_its_steps_are(self):
        tutorial = Tutorial.objects.create(name="Sewing")
        save, undo = (reverse(n, args=[tutorial.pk]) for n in ("save-tutorial", "undo-tutorial"))
        self.client.post(save, {"part": "new", "title": "Fold"})
        self.client.post(save, {"part": "name", "name": "Binding"})
        self.client.post(save, {"part": "description", "description": "Wax it."})
        seen = []
        for again in ({}, {}, {}, {"again": "1"}, {"again": "1"}, {"again": "1"}):
            self.client.post(undo, again)
            tutorial.refresh_from_db()
            seen.append((tutorial.name, tutorial.description, len(tutorial.values.steps)))
        first, last = ("Sewing", "", 0), ("Binding", "Wax it.", 1)
        steps = [("Binding", "", 1), ("Sewing", "", 1), first]
        self.assertEqual(seen, [*steps, ("Sewing", "", 1), ("Binding", "", 1), last])

    def test_a_takes_page_names_and_takes_back_what_was_done_with_it_elsewhere(self):
        self.put_take("one")
        look_after_takes()
        take = Take.objects.get()
        change, undo = (reverse(n, args=[take.pk]) for n in ("change-take", "undo-take"))
        self.client.post(change, {"part": "mark", "at_s": "1", "text": "glue"})
        self.client.post(reverse("rename-take", args=[take.pk]), {"name": "Second try"})
        page = self.client.get(take.get_absolute_url())
        self.assertContains(page, "renamed")
        # A page from before the name was changed means the mark.
        mark = page.context["history"].undo_of - 1
        self.client.post(undo, {"seen": page.context["history"].revision, "undo_of": mark})
        self.assertEqual(Take.objects.get().name, "Second try")
        self.client.post(undo)
        self.assertEqual(Take.objects.get().name, take.name)
        self.assertEqual(len(Take.objects.get().values.cues), 2)
        self.client.post(undo)
        self.assertIsNone(Take.objects.get().values.cues)


class AtOnce(TransactionTestCase):
    def test_two_who_empty_it_while_a_third_brings_back_leave_each_thing_whole_or_gone(self):
        rig = make_demo_rig()
        tutorial = Tutorial.objects.create(name="Sewing")
        files = [made_file(tutorial.versions.get(), f"{n}.mp4") for n in range(12)]
        self.addCleanup(shutil.rmtree, files[0].path.parent, ignore_errors=True)
        takes = make_takes(8, tutorial, rig=rig)
        for kind in (Export, Take):
            kind.objects.update(deleted_at=timezone.now())
        together, until, failed = threading.Barrier(3), timezone.now(), []

        def work(does):
            together.wait(30)
            try:
                does()
            except TakeError:
                pass  # it went for good before it was asked for
            except Exception as error:
                failed.append(error)
            finally:
                connection.close()

        def back():
            for row in (*files[::-3], *takes[::-3]):
                with suppress(TakeError):
                    bring_back(key=row.key)

        workers = [
            threading.Thread(target=work, args=(does,))
            for does in (lambda: empty_bin(until=until), lambda: empty_bin(until=until), back)
        ]
        for worker in workers:
            worker.start()
        for worker in workers:
            worker.join(60)
        self.assertEqual(failed, [])
        self.assertFalse(Take.with_deleted.exclude(deleted_at=None).exists())
        left = set(Export.with_deleted.values_list("pk", flat=True))
        self.assertEqual({f.pk for f in files if f.path.exists()}, left)


class Numbers(PageCase):
    def test_a_number_is_given_once(self):
        takes = make_takes(2, number=1)
        Take.objects.filter(pk=takes[1].pk).update(number=2)
        self.client.post(reverse("arrange-takes"), {"take": [takes[1].pk], "do": "delete"})
        self.client.post(reverse("empty-bin"), {"until": timezone.now().isoformat()})
        self.assertEqual(next_number(Tutorial.objects.get()), 3)
