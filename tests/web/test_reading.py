"""Rows of takes follow their folders, and nothing else of them is written."""

import ast
from pathlib import Path
from unittest import mock

from django.utils import timezone

import kettle_web
from kettle_core.program.cues import ToScene
from kettle_media.take.cues import write_cues
from kettle_media.take.folder import TakeFolder
from kettle_web.library.services import delete_takes, rename_take, tag_takes
from kettle_web.models import Take
from kettle_web.takes import reading
from kettle_web.takes.reading import look_after_takes, read_take_from_disk
from kettle_web.takes.work import repair
from tests.web.test_pages import PageCase


class Reading(PageCase):
    def setUp(self):
        super().setUp()
        self.folder = TakeFolder(self.put_take("read"))
        write_cues(self.folder, (ToScene(0, "scene-1"),))
        look_after_takes()
        self.take = Take.objects.get()

    def test_what_was_done_with_a_take_while_it_was_repaired_stays(self):
        def meanwhile(*_):
            page = Take.objects.get(pk=self.take.pk)
            rename_take(take=page, name="Second sewing")
            tag_takes(takes=[page], tag="draft")
            delete_takes(takes=[page])
            self.client.post(f"/takes/{page.pk}/change/", {"part": "mark", "at_s": "1"})

        doing = mock.Mock(subject=f"take:{self.take.pk}")
        with mock.patch("kettle_web.takes.work.recover_take", meanwhile):
            repair(doing)
        now = Take.with_deleted.get(pk=self.take.pk)
        self.assertEqual((now.name, now.tag_list), ("Second sewing", ["draft"]))
        self.assertIsNotNone(now.deleted_at)

    def test_a_change_made_while_a_folder_is_read_stays(self):
        def meanwhile(folder):
            address = f"/takes/{self.take.pk}/change/"
            self.assertLess(self.client.post(address, values).status_code, 400)
            return before(folder)

        before, values = reading.read_afterwards, {"part": "mark", "at_s": "1", "text": "glue"}
        with mock.patch.object(reading, "read_afterwards", meanwhile):
            read_take_from_disk(take=self.take)
        now = Take.objects.get(pk=self.take.pk)
        self.assertEqual(now.revision, 2)
        self.assertEqual([cue.text for cue in now.values.cues if hasattr(cue, "text")], ["glue"])

    def test_a_row_that_went_for_good_meanwhile_is_not_made_again(self):
        stale = Take.objects.get(pk=self.take.pk)
        Take.objects.all().delete()
        read_take_from_disk(take=stale)
        self.assertFalse(Take.with_deleted.exists())

    def test_a_take_that_never_was_goes_unless_its_disk_is_away(self):
        now = timezone.now()
        of = {"tutorial": self.take.tutorial, "recorded_at": now, "state": Take.State.RECORDING}
        Take.objects.create(folder="stopped-in-its-countdown", name="A", **of)
        Take.objects.create(folder="on-a-disk", name="B", root="/nowhere/at-all", **of)
        look_after_takes()
        self.assertEqual(Take.objects.count(), 3)
        # Without an engine it is not known what is recorded; one that is idle says it.
        engine = mock.Mock(ask=lambda _: {"state": "idle"})
        with mock.patch.object(reading, "engine", lambda: engine):
            look_after_takes()
        self.assertEqual(set(Take.objects.values_list("folder", flat=True)), {"read", "on-a-disk"})


class Writes(PageCase):
    def test_no_row_is_saved_whole(self):
        # What a page or a worker read a while ago would take others' changes back.
        for path in Path(kettle_web.__file__).parent.rglob("*.py"):
            if "migrations" in path.parts:
                continue
            for call in ast.walk(ast.parse(path.read_text())):
                if isinstance(call, ast.Call) and getattr(call.func, "attr", "") == "save":
                    named = {word.arg for word in call.keywords}
                    told = bool(call.args or named & {"update_fields", "force_insert"})
                    self.assertTrue(told, f"{path}:{call.lineno}")
