"""The shelf: takes found, laid in folders, tagged, deleted and had back."""

import dataclasses
import threading
from datetime import UTC, datetime, timedelta

from django.conf import settings
from django.db import connection
from django.test import TransactionTestCase
from django.urls import reverse
from django.utils import timezone

from kettle_core.program.afterwards import Afterwards
from kettle_core.program.cues import Mark, Step, ToScene
from kettle_media.take.afterwards import write_afterwards
from kettle_media.take.folder import TakeFolder
from kettle_web.frame.editing import edit
from kettle_web.frame.history import library_history
from kettle_web.library import services
from kettle_web.library.bin import empty_bin
from kettle_web.library.search import found_by, index_take
from kettle_web.models import Folder, Rig, Take, Tutorial
from kettle_web.takes.reading import look_after_takes
from tests.web.test_pages import PageCase
from tests.web.working import do_jobs


def make_takes(count, tutorial=None, **more):
    """Takes without folders on the disk."""
    tutorial = tutorial or Tutorial.objects.create(name="Sewing")
    now = datetime.now(UTC)
    made = [
        Take.objects.create(
            tutorial=tutorial,
            folder=f"t{tutorial.pk}-{n}",
            name=f"Take {n}",
            state="complete",
            recorded_at=now - timedelta(minutes=n),
            size_bytes=1000 * (n + 1),
            **more,
        )
        for n in range(count)
    ]
    for take in made:
        index_take(take)
    return made


class Library(PageCase):
    def arrange(self, takes, do, **values):
        ids = [take.pk for take in takes]
        return self.client.post(reverse("arrange-takes"), {"take": ids, "do": do, **values})

    def names(self, **asked):
        page = self.client.get(reverse("start"), asked)
        self.assertEqual(page.status_code, 200)
        return [take.name for take in page.context["shelf"].takes]

    def undo(self, **values):
        self.client.post(reverse("undo-library"), values)

    def test_takes_are_found_by_names_marks_steps_and_tags(self):
        path = self.put_take("found")
        cues = (ToScene(0, "scene-1"), Step(1, "Fold it"), Mark(2, "Crémone “again”"))
        write_afterwards(TakeFolder(path), Afterwards(cues))
        look_after_takes()
        take = Take.objects.get()
        make_takes(2)
        for words in ("cremone", "again fol", take.name, "FOLD"):
            with self.subTest(words):
                self.assertEqual(self.names(q=words), [take.name])
        self.arrange([take], "tag", tag="  first \n try | ")
        self.assertEqual(Take.objects.get(pk=take.pk).tag_list, ["first try"])
        self.assertEqual(self.names(q="first try"), [take.name])
        self.assertEqual(self.names(tag="first try"), [take.name])
        self.assertEqual(self.names(q="sewing"), ["Take 0", "Take 1"])
        self.assertEqual(self.names(q="nothing of the kind"), [])

    def test_signs_of_the_index_and_of_sql_are_words_like_others(self):
        (take,) = make_takes(1)
        for words in ('"', "'", "*", "AND", "NEAR(a b)", "a OR b", "-", "%\\", "é" * 900):
            with self.subTest(words):
                self.assertEqual(self.names(q=words[:200]), [])
        self.assertEqual(self.names(q="\0x"), ["Take 0"])
        # Each is a word, as it stands in a name too.
        take.name = 'And near (a b) "or" take:0'
        index_take(take)
        for words in ("AND", "NEAR(a b)", "a OR b", "take:0", '"or"', "near* -"):
            with self.subTest(words):
                self.assertEqual(self.names(q=words), ["Take 0"])
        self.assertEqual(found_by(Take.objects.all(), "take 0").count(), 1)

    def test_they_are_sorted_and_what_makes_no_sense_is_not_asked_for(self):
        make_takes(3)
        for sort, expected in (("", "012"), ("oldest", "210"), ("largest", "210"), ("x", "012")):
            found = [name[-1] for name in self.names(sort=sort)]
            self.assertEqual("".join(found), expected, sort)
        self.assertEqual(len(self.names(tutorial="99", tag="none")), 3)

    def test_folders_lie_in_each_other_and_deleting_one_deletes_no_take(self):
        takes = make_takes(3)
        self.client.post(reverse("folders"), {"name": "Spring"})
        spring = Folder.objects.get()
        self.client.post(reverse("folders"), {"name": "Drafts", "parent": spring.pk})
        drafts = Folder.objects.get(name="Drafts")
        self.arrange(takes[:1], "move", folder=drafts.pk)
        self.assertEqual(self.names(**{"in": spring.pk}), ["Take 0"])
        again = self.client.post(reverse("folders"), {"name": "Spring"})
        self.assertContains(again, "There is a folder “Spring” here already", status_code=400)
        self.client.post(reverse("folders"), {"delete": spring.pk})
        self.assertEqual((Folder.objects.count(), Take.objects.count()), (0, 3))
        self.assertEqual(len(self.names(**{"in": spring.pk})), 3)
        # Undo brings both back, and what lay in them lies there again.
        self.undo()
        self.assertEqual(self.names(**{"in": spring.pk}), ["Take 0"])
        self.client.post(reverse("folders"), {"delete": spring.pk})
        empty_bin(until=timezone.now())
        self.assertIsNone(Take.objects.get(pk=takes[0].pk).kept_in_id)
        # The move can be undone all the same; to do it again has no folder any more.
        self.undo()
        self.undo(again="1")
        self.assertIsNone(Take.objects.get(pk=takes[0].pk).kept_in_id)

    def test_folders_are_sorted_found_and_come_in_pages(self):
        for number in range(30, 0, -1):
            Folder.objects.create(name=f"{'fF'[number % 2]}older {number:02d}")
        Folder.objects.create(name="Inside", parent=Folder.objects.get(name="folder 02"))

        def names(**asked):
            shelf = self.client.get(reverse("start"), asked).context["shelf"]
            return [branch.folder.name for branch in shelf.some_folders]

        self.assertEqual(names()[:4], ["Folder 01", "folder 02", "Inside", "Folder 03"])
        self.assertEqual((len(names()), len(names(**{"folders-page": 2}))), (24, 7))
        self.assertEqual(names(folders="INS"), ["Inside"])

    def test_what_was_done_with_many_is_undone_at_once_and_done_again(self):
        takes = make_takes(4)
        other = Tutorial.objects.create(name="Folding")
        self.arrange(takes[:3], "tutorial", to_tutorial=other.pk)
        self.arrange(takes[:3], "delete")
        self.assertEqual(self.names(), ["Take 3"])
        self.undo()
        self.assertEqual(other.takes.filter(deleted_at=None).count(), 3)
        self.undo()
        self.assertEqual(other.takes.count(), 0)
        self.undo(again="1")
        self.undo(again="1")
        self.assertEqual(self.names(), ["Take 3"])
        self.client.post(reverse("bring-back"), {"key": takes[0].key})
        self.assertEqual(self.names(), ["Take 0", "Take 3"])

    def test_a_renamed_tutorials_and_rigs_takes_are_found_by_their_names_now(self):
        (take,) = make_takes(1, rig=self.rig)
        tutorial = take.tutorial
        save = reverse("save-tutorial", args=[tutorial.pk])
        self.client.post(save, {"part": "name", "name": "Binding"})
        self.assertEqual((self.names(q="binding"), self.names(q="sewing")), (["Take 0"], []))
        self.client.post(reverse("undo-tutorial", args=[tutorial.pk]))
        self.assertEqual((self.names(q="binding"), self.names(q="sewing")), ([], ["Take 0"]))
        edit(self.rig, lambda values: (dataclasses.replace(values, name="Attic"), "renamed"))
        self.assertEqual((self.names(q="attic"), self.names(q="bench")), (["Take 0"], []))

    def test_what_was_changed_otherwise_since_is_not_taken_back(self):
        (take,) = make_takes(1)
        self.client.post(reverse("rename-take", args=[take.pk]), {"name": "One"})
        Take.objects.filter(pk=take.pk).update(name="Two")
        self.undo()
        self.assertEqual(Take.objects.get().name, "Two")

    def test_what_was_set_besides_is_no_hindrance_to_take_something_back(self):
        (take,) = make_takes(1)
        spring = Folder.objects.create(name="Spring")
        self.arrange([take], "move", folder=spring.pk)
        self.client.post(reverse("rename-take", args=[take.pk]), {"name": "One"})
        # The folder goes for good: where the take lies is another place than when it was renamed.
        self.client.post(reverse("folders"), {"delete": spring.pk})
        empty_bin(until=timezone.now())
        self.undo()
        self.assertEqual(Take.objects.get().name, "Take 0")

    def test_what_cannot_be_done_is_said(self):
        takes = make_takes(2)
        recording = make_takes(1, Tutorial.objects.create(name="Now"))[0]
        Take.objects.filter(pk=recording.pk).update(state="recording")
        for do, chosen, values, words in (
            ("delete", [], {}, "No take is chosen"),
            ("delete", [*takes, recording], {}, "is being recorded"),
            ("tag", takes, {"tag": " | "}, "A tag needs a word"),
            ("tag", takes, {"tag": "x" * 41}, "at most 40 characters"),
            ("move", takes, {"folder": "99"}, "This folder is gone"),
            ("tutorial", takes, {"to_tutorial": "x"}, "Choose the tutorial"),
            ("move", takes, {"folder": "9" * 5000}, "This folder is gone"),
            ("anything", takes, {}, "Reload the page"),
        ):
            with self.subTest(words):
                self.assertContains(self.arrange(chosen, do, **values), words, status_code=400)
        self.assertEqual(Take.objects.count(), 3)
        for wrong in ("x", 10**30, "9" * 5000):
            answer = self.client.post(reverse("arrange-takes"), {"take": wrong, "do": "delete"})
            self.assertContains(answer, "is gone meanwhile", status_code=400)

    def test_the_bin_is_emptied_for_good_and_says_how_much_that_was(self):
        path = self.put_take("thrown-away")
        look_after_takes()
        take = Take.objects.get()
        self.arrange([take], "delete")
        page = self.client.get(reverse("bin"))
        self.assertContains(page, "Delete 1 take for good?")
        self.assertContains(page, f"{take.size_bytes / 1e6:.1f} MB")
        until = page.context["bin"].until
        # What was deleted after the page was shown was not asked about.
        self.client.post(reverse("delete-rig", args=["demo"]))
        for wrong in ("", "x", "2026-01-01"):
            self.client.post(reverse("empty-bin"), {"until": wrong})
            self.assertTrue(path.exists())
        self.client.post(reverse("empty-bin"), {"until": until})
        self.assertFalse(path.exists())
        self.assertTrue(Rig.with_deleted.filter(slug="demo").exists())
        self.assertFalse(Take.with_deleted.exists())
        look_after_takes()
        do_jobs()
        self.assertEqual(list(settings.TAKES.iterdir()), [])
        # Undo names nothing that can't be had back.
        self.assertEqual(library_history().undo, "rig “Bench rig” deleted")
        self.assertFalse(Take.with_deleted.exists())

    def test_a_duplicate_is_changed_by_itself_and_takes_no_room(self):
        path = self.put_take("twice")
        look_after_takes()
        take = Take.objects.get()
        self.client.post(reverse("duplicate-take", args=[take.pk]))
        made = Take.objects.exclude(pk=take.pk).get()
        first, second = TakeFolder(path), TakeFolder(made.path)
        self.assertNotEqual(first.read_info().id, second.read_info().id)
        track = first.read_info().tracks[0]
        self.assertTrue(first.track_path(track).samefile(second.track_path(track)))
        change = reverse("change-take", args=[made.pk])
        self.client.post(change, {"part": "mark", "at_s": "1", "text": "only here"})
        self.assertFalse(first.afterwards_path.exists())
        self.assertTrue(second.afterwards_path.exists())
        look_after_takes()
        self.assertEqual(Take.objects.count(), 2)

    def test_what_tutorials_take_of_the_disk_adds_up(self):
        for number in range(11):
            make_takes(number + 1, Tutorial.objects.create(name=f"No. {number}"))
        uses = self.client.get(reverse("start")).context["shelf"].uses
        self.assertEqual((len(uses), uses[-1].name), (8, "others"))
        self.assertAlmostEqual(sum(use.percent for use in uses), 100, places=1)
        total = sum(take.size_bytes for take in Take.objects.all())
        self.assertEqual(sum(use.size_bytes for use in uses), total)


class AtOnce(TransactionTestCase):
    def test_two_who_tag_the_same_takes_at_once_lose_nothing(self):
        takes = make_takes(5)
        together = threading.Barrier(2)
        failed = []

        def tag(word):
            try:
                together.wait(30)
                services.tag_takes(takes=takes, tag=word)
            except Exception as error:
                failed.append(error)
            finally:
                connection.close()

        threads = [threading.Thread(target=tag, args=(word,)) for word in ("draft", "good")]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(60)
        self.assertEqual(failed, [])
        for take in Take.objects.all():
            self.assertEqual(sorted(take.tag_list), ["draft", "good"])
        services.undo()
        services.undo()
        self.assertEqual({take.tags for take in Take.objects.all()}, {""})
