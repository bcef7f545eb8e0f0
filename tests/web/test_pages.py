import asyncio
import contextlib
import os
import shutil
import time
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from unittest import mock

from django.conf import settings
from django.core.management import call_command
from django.test import TestCase
from django.urls import reverse

from kettle_engine.addresses import socket_folder
from kettle_web.models import Job, Rig, Take, Tutorial
from kettle_web.rigs.services import keep_rig, make_demo_rig
from kettle_web.takes.demo import order_demo_takes
from kettle_web.takes.reading import look_after_takes
from tests.fixtures import copied_take, demo_take
from tests.small_disk import small_disk
from tests.web.working import do_jobs


class PageCase(TestCase):
    def setUp(self):
        self.rig = make_demo_rig()
        takes = settings.DATA / f"takes-{os.getpid()}"
        self.enterContext(self.settings(TAKES=takes))
        self.addCleanup(shutil.rmtree, takes)
        takes.mkdir()

    def put_take(self, name, source=None):
        path = settings.TAKES / name
        shutil.copytree((source or demo_take()).path, path)
        return path

    def put_two_takes(self):
        """Two takes of one tutorial, of 4 and 3 s; gives the tutorial."""
        self.put_take("one")
        self.put_take("two", demo_take(3))
        look_after_takes()
        return Tutorial.objects.get()


class Start(PageCase):
    def test_rigs_takes_and_the_missing_engine_are_shown(self):
        page = self.client.get(reverse("start"))
        self.assertContains(page, "Bench rig")
        self.assertContains(page, "9 inputs, 4 tracks · 1920 × 1080 px · 30 fps")
        self.assertContains(page, "Nothing has been recorded yet")
        self.assertContains(page, "The recording engine is not running")

    def test_every_rig_and_tutorial_can_be_reached_and_found(self):
        for number in range(30):
            Tutorial.objects.create(name=f"Lesson {number:02d}")
            keep_rig(document={**self.rig.document, "name": f"Rig {number:02d}"})
        for kind, first in (("tutorials", "Lesson 29"), ("rigs", "Bench rig")):
            seen, page = [], 1
            while page:
                found = self.client.get("/", {f"{kind}-page": page}).context[kind]
                seen += [one.name for one in found]
                page = found.next_page_number() if found.has_next() else 0
            self.assertEqual(len(set(seen)), len(seen))
            self.assertEqual((len(seen), seen[0]), (30 + (kind == "rigs"), first))
        found = self.client.get("/", {"tutorials": "less 07", "tutorials-page": "9" * 5000})
        self.assertEqual([t.name for t in found.context["tutorials"]], ["Lesson 07"])
        self.assertContains(self.client.get("/", {"rigs": "attic"}), "No rig is called that")

    def test_a_rig_needs_a_name_and_the_engine(self):
        page = self.client.post(reverse("new-rig"), {"name": " "})
        self.assertContains(page, "A rig needs a name", status_code=400)
        page = self.client.post(reverse("new-rig"), {"name": "Attic"})
        self.assertContains(page, "engine is not running", status_code=503)
        self.assertEqual(Rig.objects.count(), 1)

    def test_pages_may_load_nothing_from_elsewhere(self):
        policy = self.client.get(reverse("start"))["Content-Security-Policy"]
        self.assertIn("default-src 'none'", policy)
        self.assertNotIn("unsafe", policy)
        self.assertEqual(
            self.client.get("/", headers={"host": "elsewhere.example"}).status_code, 400
        )

    def test_a_page_that_is_not_there_says_so(self):
        self.assertContains(self.client.get("/rigs/none/"), "not there", status_code=404)

    def test_models_and_migrations_agree(self):
        call_command("makemigrations", check=True, dry_run=True, verbosity=0)


class PatchSheet(PageCase):
    def change(self, what, name, how="off"):
        values = {"cross": f"{name} {what} {how} scene-1"}
        return self.client.post(reverse("set-crosspoint", args=["demo"]), values, follow=True)

    def test_crosspoints_are_changed_over_and_findings_follow(self):
        page = self.client.get(self.rig.get_absolute_url())
        self.assertNotContains(page, "“Sheet and me” has no voice.")
        page = self.change("heard", "headset")
        self.assertContains(page, "“Sheet and me” has no voice.")
        self.assertContains(page, "no-voice")
        page = self.change("recorded", "display-1")
        self.assertContains(page, "Main display would be missing")
        self.assertContains(page, "1 track<")
        page = self.change("heard", "headset", "on")
        self.assertContains(page, "Headset: heard in Sheet and me")
        self.assertNotContains(page, "“Sheet and me” has no voice.")

    def test_a_crosspoint_that_is_not_there_is_told_on_the_page(self):
        page = self.change("seen", "headset")
        self.assertContains(page, "has no crosspoint “seen” for “Headset”")
        self.assertContains(self.change("eaten", "headset"), "no crosspoint “eaten”")
        self.assertContains(self.change("heard", "headset", "maybe"), "not on the patch sheet")

    def test_the_cost_is_told_from_the_last_take(self):
        self.put_take("found")
        look_after_takes()
        Take.objects.update(rig=self.rig, size_bytes=60_000_000, duration_s=60.0)
        self.assertContains(self.client.get(self.rig.get_absolute_url()), "60.0 MB/min")


class Record(PageCase):
    def test_without_the_engine_nothing_begins_and_it_is_said(self):
        page = self.client.get(reverse("record", args=["demo"]))
        self.assertContains(page, "The recording engine is not running")
        page = self.client.post(
            reverse("record-start", args=["demo"]), {"countdown_s": 3}, follow=True
        )
        self.assertContains(page, "so nothing can be shown or recorded")
        answer = self.client.post(
            reverse("record-stop", args=["demo"]), headers={"accept": "application/json"}
        )
        self.assertEqual(answer.status_code, 503)
        self.assertIn("not running", answer.json()["error"])
        self.assertFalse(Take.objects.exists())

    def test_a_wrong_countdown_is_told_at_its_field(self):
        address = reverse("record-start", args=["demo"])
        for value, sentence in (("11", "at most 10 s"), ("", "is empty"), ("x", "whole number")):
            page = self.client.post(address, {"countdown_s": value})
            self.assertContains(page, sentence, status_code=400)
        answer = self.client.post(
            address, {"countdown_s": -1}, headers={"accept": "application/json"}
        )
        self.assertEqual(answer.json()["field"], "countdown_s")


class Takes(PageCase):
    def test_a_take_found_on_disk_is_taken_in_and_composed(self):
        self.put_take("from-the-command-line")
        look_after_takes()
        take = Take.objects.get()
        self.assertEqual((take.state, take.program_job.state), ("complete", "waiting"))
        self.assertEqual(take.duration_s, 4.0)
        page = self.client.get(take.get_absolute_url())
        self.assertContains(page, "waits to be composed")
        self.assertContains(page, "2 jobs</a>")
        do_jobs()
        take.refresh_from_db()
        job = take.program_job
        self.assertEqual((job.state, job.done, job.total, job.unit), ("done", 120, 120, "frames"))
        page = self.client.get(take.get_absolute_url())
        self.assertContains(page, "measured against Headset")
        self.assertContains(page, "See Desk webcam")
        told = self.client.get(reverse("jobs"), headers={"accept": "application/json"}).json()
        self.assertEqual([(j["state"], j["percent"]) for j in told["jobs"]], 2 * [("done", 100)])

    def test_a_cut_off_take_says_so(self):
        folder = copied_take("web-cut")
        info = folder.read_info()
        info = replace(
            info, state="repaired", notes=("This take was cut off and has been repaired.",)
        )
        folder.write_info(info)
        self.put_take("cut", folder)
        look_after_takes()
        page = self.client.get(Take.objects.get().get_absolute_url())
        self.assertContains(page, "was cut off and has been repaired")

    def test_cues_that_cannot_be_followed_are_told_on_the_takes_page(self):
        path = self.put_take("cues")
        with (path / "cues.jsonl").open("a") as file:
            file.write('{"at_ns": 7, "do": "hide", "input": "ghost"}\n{"at_ns": 8, "do": "sc')
        look_after_takes()
        page = self.client.get(Take.objects.get().get_absolute_url())
        self.assertContains(page, "The rig has no input “ghost”")
        self.assertContains(page, "of cues.jsonl is left out")

    def test_stems_of_older_takes_lie_in_another_folder_and_are_given_all_the_same(self):
        path = self.put_take("older")
        (path / "sounds").mkdir()
        (path / "sounds" / "voice.flac").write_bytes(b"fLaC of old")
        look_after_takes()
        take = Take.objects.get()
        page = self.client.get(take.get_absolute_url())
        self.assertContains(page, "stem, cleaned, mono")
        answer = self.client.get(reverse("take-file", args=[take.pk, "sound-copy", "voice"]))
        self.assertEqual(b"".join(answer), b"fLaC of old")

    def test_a_damaged_track_fails_the_program_with_the_reason_and_can_be_tried_again(self):
        path = self.put_take("damaged")
        (path / "tracks" / "headset.mkv").write_bytes(b"")
        look_after_takes()
        take = Take.objects.get()
        do_jobs()
        page = self.client.get(take.get_absolute_url())
        self.assertContains(page, "the tracks are all there")
        self.assertContains(page, "headset")
        self.client.post(reverse("take-compose", args=[take.pk]))
        take.refresh_from_db()
        self.assertEqual(take.program_job.state, "waiting")

    def test_a_full_disk_fails_the_program_with_the_reason_and_it_is_made_when_there_is_room(self):
        disk = self.enterContext(small_disk(settings.DATA / f"small-{os.getpid()}", 60))
        self.enterContext(self.settings(TAKES=disk))
        self.put_take("full")
        filler = disk / "filler"
        with filler.open("wb") as file, contextlib.suppress(OSError):
            while True:
                file.write(bytes(100_000))
        look_after_takes()
        do_jobs()
        for job in Job.objects.all():
            self.assertEqual(job.state, "failed", job.kind)
            self.assertRegex(job.sentence, "(?i)no (room|space)|full")
            self.assertNotIn("should not", job.sentence)
        filler.unlink()
        take = Take.objects.get()
        self.client.post(reverse("take-compose", args=[take.pk]))
        do_jobs()
        take.refresh_from_db()
        self.assertTrue(take.has_program, take.program_job.sentence)
        self.assertEqual([p.name for p in (disk / "full").glob(".*")], [])

    def test_a_take_whose_folder_is_gone_has_failed(self):
        tutorial = Tutorial.objects.create()
        Take.objects.create(
            folder="gone",
            name="Gone",
            recorded_at=datetime.now(UTC),
            tutorial=tutorial,
            duration_s=4.0,
        )
        look_after_takes()
        take = Take.objects.get()
        self.assertEqual(take.state, "failed")
        self.assertContains(self.client.get(take.get_absolute_url()), "is not a take")

    def test_a_damaged_folder_is_one_take_that_says_why_until_it_is_mended(self):
        path = self.put_take("bad-date")
        good = (path / "take.json").read_text()
        for damage in (good.replace('"started_at": "20', '"started_at": "May '), "{", "[]"):
            Take.objects.all().delete()
            (path / "take.json").write_text(damage)
            look_after_takes()
            take = Take.objects.get()
            self.assertEqual(take.state, "failed")
            self.assertContains(self.client.get(take.get_absolute_url()), "cannot be read")
            for name in ("start", "jobs"):
                self.assertEqual(self.client.get(reverse(name)).status_code, 200)
        (path / "take.json").write_text(good)
        later = time.time() + 5
        os.utime(path / "take.json", (later, later))
        look_after_takes()
        self.assertEqual(Take.objects.get().state, "complete")

    def test_the_demo_has_a_tutorial_with_two_takes_once(self):
        order_demo_takes()
        order_demo_takes()
        self.assertEqual([j.kind for j in Job.objects.all()], ["demo-takes", "demo-cut"])
        # Takes of a second have nothing to be cut.
        Job.objects.filter(kind="demo-cut").delete()
        with mock.patch.dict(os.environ, KETTLE_DEMO_TAKES="1 1"):
            do_jobs()
        names = sorted(Take.objects.values_list("name", flat=True))
        self.assertEqual(names, [f"Planning a signature, take {n}" for n in (1, 2)])
        self.assertEqual([t.state for t in Take.objects.all()], ["complete"] * 2)
        self.assertTrue(all(t.has_program for t in Take.objects.all()))
        self.assertEqual([p.name for p in settings.TAKES.glob(".*")], [])
        Take.objects.all().delete()
        order_demo_takes()
        self.assertFalse(Job.objects.filter(state="waiting").exists())

    def test_a_page_holds_sixty_takes(self):
        now = datetime.now(UTC)
        tutorial = Tutorial.objects.create()
        Take.objects.bulk_create(
            Take(tutorial=tutorial, folder=f"t{n}", name=f"Demo, take {n}", state="complete",
                 recorded_at=now - timedelta(minutes=n)) for n in range(130)
        )  # fmt: skip
        page = self.client.get(reverse("start"))
        self.assertContains(page, "1–60 of 130")
        self.assertNotContains(page, "Demo, take 60<")
        self.assertContains(self.client.get(reverse("start"), {"page": 3}), "121–130 of 130")
        for odd in ("x", "-1", "99", "1e9", "9" * 400):
            self.assertEqual(self.client.get(reverse("start"), {"page": odd}).status_code, 200)


class Media(PageCase):
    def setUp(self):
        super().setUp()
        self.path = self.put_take("media")
        look_after_takes()
        self.take = Take.objects.get()

    def get(self, kind, name, **headers):
        address = reverse("take-file", args=[self.take.pk, kind, name])
        return self.client.get(address, headers=headers)

    def body(self, response):
        async def collect():
            return b"".join([part async for part in response.streaming_content])

        return asyncio.run(collect())

    def test_ranges_are_served_as_players_ask_for_them(self):
        data = (self.path / "tracks" / "headset.mkv").read_bytes()
        whole = self.get("track", "headset")
        self.assertEqual((whole.status_code, self.body(whole)), (200, data))
        self.assertIn("attachment", whole["Content-Disposition"])
        for asked, expected in (
            ("bytes=10-19", data[10:20]),
            ("bytes=100-", data[100:]),
            ("bytes=-7", data[-7:]),
            (f"bytes=5-{10**12}", data[5:]),
        ):
            part = self.get("track", "headset", range=asked)
            self.assertEqual(part.status_code, 206)
            self.assertEqual(self.body(part), expected)
            self.assertEqual(int(part["Content-Length"]), len(expected))
        beyond = self.get("track", "headset", range=f"bytes={len(data)}-")
        self.assertEqual(beyond.status_code, 416)
        self.assertEqual(beyond["Content-Range"], f"bytes */{len(data)}")

    def test_parts_of_what_is_another_file_by_now_are_not_joined(self):
        data = (self.path / "tracks" / "headset.mkv").read_bytes()
        etag = self.get("track", "headset")["ETag"]
        part = self.get("track", "headset", range="bytes=3-5", if_range=etag)
        self.assertEqual((part.status_code, self.body(part)), (206, data[3:6]))
        self.assertEqual(self.get("track", "headset", if_none_match=etag).status_code, 304)
        (self.path / "tracks" / "headset.mkv").write_bytes(data[:-1])
        whole = self.get("track", "headset", range="bytes=3-5", if_range=etag)
        self.assertEqual((whole.status_code, self.body(whole)), (200, data[:-1]))

    def test_a_track_is_played_from_its_own_file_until_there_is_a_copy(self):
        data = (self.path / "tracks" / "headset.mkv").read_bytes()
        played = self.get("play", "headset")
        self.assertEqual((played.status_code, self.body(played)), (200, data))
        self.assertNotIn("Content-Disposition", played)
        told = self.client.get(f"/takes/{self.take.pk}/overview/").json()
        self.assertEqual(told["program"], "")
        played = {track["name"]: track["play"] for track in told["tracks"]}
        address = played["headset"]
        self.assertTrue(address.startswith(f"/takes/{self.take.pk}/play/headset/?v="))
        # What a page plays does not become another file below it.
        (self.path / "playable").mkdir()
        (self.path / "playable" / "headset.flac").write_bytes(b"fLaC")
        told = self.client.get(f"/takes/{self.take.pk}/overview/").json()
        self.assertNotIn(address, [track["play"] for track in told["tracks"]])

    def test_only_the_takes_own_files_are_served(self):
        for kind, name in (
            ("track", "passwd"),
            ("journal", "headset"),
            ("program", "program"),
            ("play", "passwd"),
            ("copy", "headset"),
        ):
            self.assertEqual(self.get(kind, name).status_code, 404)
        self.assertEqual(
            self.client.get(f"/takes/{self.take.pk}/track/..%2f..%2ftake.json/").status_code, 404
        )


class Sockets(PageCase):
    def test_sockets_lie_in_a_short_private_folder(self):
        self.assertLess(len(str(socket_folder(settings.DATA)) + "/commands"), 100)
