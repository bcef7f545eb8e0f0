"""The assembly page: what its forms change, what it is told, what it refuses."""

import io
import json
import os
import re
import shutil
import wave
from unittest import mock

from asgiref.sync import async_to_sync, sync_to_async
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TransactionTestCase
from django.urls import reverse
from django.utils import timezone

from kettle_core.program.cues import Mark, ToScene
from kettle_media.player.messages import Message
from kettle_media.survey.survey import survey_take
from kettle_media.take.cues import write_cues
from kettle_media.take.folder import TakeFolder
from kettle_web.assembly.material import Material
from kettle_web.assembly.services import as_now, take_over, version_of
from kettle_web.frame.editing import undo
from kettle_web.library.bin import bring_back
from kettle_web.library.services import delete_takes, move_to_tutorial
from kettle_web.models import Take, Tutorial, Version
from kettle_web.takes.players import PlayerLine
from tests.fixtures import copied_take
from tests.media.assembly.test_added_file import video
from tests.web.page_socket import PageSocket
from tests.web.test_pages import PageCase

S = 10**9


class AssemblyCase(PageCase):
    CHANGE = "change-assembly"

    def setUp(self):
        super().setUp()
        self.tutorial = self.put_two_takes()
        self.page = self.client.get(
            reverse("tutorial-assembly", args=[self.tutorial.pk]), follow=True
        )
        self.version = as_now(Version.objects.get(), Material(self.tutorial))

    def address(self, name):
        return reverse(name, args=[self.version.pk])

    def change(self, part, *places, **values):
        """A change at places (piece, s of its take), in place as a page makes it."""
        names = ("from_piece", "from_s"), ("until_piece", "until_s")
        for pair, place in zip(names, places, strict=False):
            values |= dict(zip(pair, place, strict=True))
        seen = {"Kettle-Seen": str(self.version.revision), "Kettle-In-Place": "1"}
        answer = self.client.post(self.address(self.CHANGE), {"part": part, **values}, headers=seen)
        self.version.refresh_from_db()
        return answer

    @property
    def pieces(self):
        return [
            (p.id, p.from_ns / S, p.until_ns / S, p.out, p.percent)
            for p in self.version.values.pieces
        ]

    def told(self):
        page = self.client.get(self.address("assembly")).content.decode()
        (found,) = re.findall(r'<script id="cuts"[^>]*>(.*?)</script>', page)
        return json.loads(found)


class Changes(AssemblyCase):
    def test_a_stretch_is_taken_out_and_back_and_the_page_says_how_long_it_is(self):
        self.assertContains(self.page, "0:07 of 0:07")
        self.change("out", ("p1", 1.0), ("p1", 2.5))
        self.assertEqual(
            self.pieces,
            [("p1", 0, 1, False, 100), ("p4", 1, 2.5, True, 100),
             ("p3", 2.5, 4, False, 100), ("p2", 0, 3, False, 100)],
        )  # fmt: skip
        told = self.told()
        self.assertEqual([(p["at_s"], p["end_s"]) for p in told["pieces"]],
                         [(0, 1), (1, 1), (1, 2.5), (2.5, 5.5)])  # fmt: skip
        self.assertEqual(told["length_s"], 5.5)
        # The play head is in what is out.
        self.change("back", ("p4", 1.7))
        self.assertEqual([row[:3] for row in self.pieces], [("p1", 0, 4), ("p2", 0, 3)])
        self.assertEqual(undo(self.version), "1.5 s taken back")

    def test_speeds_are_typed_and_what_is_wrong_is_said_at_its_field(self):
        for speed, sound, words in (("1.5", "stretched", "× 1.5"), ("8", "off", "× 8, no sound")):
            self.change("speed", ("p2", 1.0), ("p2", 2.0), speed=speed, sound=sound)
            self.assertIn(words, [p["words"] for p in self.told()["pieces"]])
        before = self.pieces
        for speed in ("0", "1000000", "nan", "", "fast"):
            answer = self.change("speed", ("p1", 0), speed=speed, sound="off")
            self.assertEqual(answer.status_code, 400)
            self.assertContains(answer, "A speed is 0.1 to 64 ×", status_code=400)
            self.assertContains(answer, "is-invalid", status_code=400)
        answer = self.change("speed", ("p1", 1.0), ("p1", 1.5), speed="64", sound="off")
        self.assertContains(answer, "would be shorter than half a frame", status_code=400)
        self.assertContains(answer, "is-invalid", status_code=400)
        self.assertEqual(self.pieces, before)

    def test_pieces_are_divided_moved_doubled_and_removed(self):
        self.change("split", ("p1", 2.0))
        self.change("later", ("p3", 2.5))
        self.assertEqual([row[0] for row in self.pieces], ["p1", "p2", "p3"])
        self.change("earlier", ("p2", 0))
        self.change("copy", ("p3", 3))
        self.assertEqual([row[0] for row in self.pieces], ["p2", "p1", "p3", "p4"])
        self.change("remove", ("p3", 3))
        self.change("add", take=self.version.values.pieces[0].take)
        self.assertEqual([row[0] for row in self.pieces], ["p2", "p1", "p4", "p5"])
        self.change("anew")
        self.assertEqual([row[1:3] for row in self.pieces], [(0, 4), (0, 3)])

    def test_two_pages_that_cut_at_once_are_both_kept_and_a_piece_that_is_gone_is_told(self):
        seen = self.version.revision
        for at in (0.5, 2.0):
            self.version.revision = seen
            self.change("out", ("p1", at), ("p1", at + 0.5))
        self.assertEqual(self.told()["length_s"], 6)
        self.change("remove", ("p2", 0))
        answer = self.change("out", ("p2", 0), ("p2", 1))
        self.assertIn("is gone", answer.json()["error"])
        for wrong in ({"part": "nothing"}, {"part": "out"}, {"part": "add", "take": "x"}):
            self.assertIn("error", self.change(**wrong).json())

    def test_a_take_that_belongs_to_another_tutorial_by_now_plays_on(self):
        self.change("split", ("p1", 2.0))
        other = Tutorial.objects.create(name="Other")
        move_to_tutorial(takes=[Take.objects.get(folder="two")], tutorial=other)
        page = self.client.get(self.address("assembly"))
        self.assertNotContains(page, "were deleted")
        self.assertIn("/live/assembly/", self.told()["plan"])
        self.assertEqual(len(self.pieces), 3)
        # It is no take of this tutorial's any more: what begins anew is made of those alone.
        self.change("anew")
        self.assertEqual([row[0] for row in self.pieces], ["p1"])

    def test_a_deleted_take_is_told_and_its_pieces_can_go_or_come_back(self):
        take = Take.objects.get(folder="two")
        self.change("split", ("p1", 2.0))
        delete_takes(takes=[take])
        page = self.client.get(self.address("assembly"))
        self.assertContains(page, "1 piece is of takes that were deleted")
        self.assertEqual(self.told()["plan"], "")
        bring_back(key=take.key)
        self.assertIn("/live/assembly/", self.told()["plan"])
        delete_takes(takes=[take])
        self.change("gone")
        self.assertEqual([row[0] for row in self.pieces], ["p1", "p3"])


class Fades(AssemblyCase):
    def test_a_piece_fades_by_itself_and_keeps_it_at_its_ends_when_it_is_divided(self):
        self.change("piece-fades", ("p1", 1.0), fade_in="300", fade_out="700")
        self.change("split", ("p1", 2.0))
        fades = [piece["fades_ms"] for piece in self.told()["pieces"]]
        self.assertEqual(fades, [[300, 0], [0, 700], [0, 0]])
        self.change("back", ("p1", 0), ("p3", 4))
        self.assertEqual(self.told()["pieces"][0]["fades_ms"], [300, 700])
        for wrong in ("-1", "10001", "soon"):
            answer = self.change("piece-fades", ("p1", 1.0), fade_in=wrong, fade_out="0")
            self.assertContains(answer, "A fade takes 0 to 10000 ms", status_code=400)


class Quiet(AssemblyCase):
    VALUES = {"below": "-30", "seconds": "0.3", "rest": "100", "faster": "4"}

    def test_what_is_quiet_is_told_before_it_is_taken_out_or_hurried(self):
        for take in self.tutorial.takes.all():
            survey_take(TakeFolder(take.path))
        told = self.client.get(self.address("assembly-quiet"), self.VALUES).json()
        spans = [b - a for found in told["spans"].values() for a, b in found]
        self.assertTrue(spans)
        self.assertRegex(told["words"], r"^\d+ found\. Taken out they make it 0:0\d, × 4 0:0\d")
        out_s = sum(s - 0.1 for s in spans)
        self.change("quiet-out", **self.VALUES)
        self.assertAlmostEqual(self.told()["length_s"], 7 - out_s, delta=0.05 * len(spans))
        again = self.client.get(self.address("assembly-quiet"), self.VALUES).json()
        self.assertIn("Nothing more", again["words"])
        self.assertIn("error", self.change("quiet-out", **self.VALUES).json())
        undo(self.version)
        self.version.refresh_from_db()
        self.change("quiet-faster", **self.VALUES)
        self.assertAlmostEqual(self.told()["length_s"], 7 - 0.75 * out_s, delta=0.05 * len(spans))
        undo(self.version)
        self.version.refresh_from_db()
        self.change("quiet-faster", **self.VALUES | {"faster": "64"})
        self.assertRegex(
            undo(self.version), r"shorter than half a frame \(\d+\.\d ms\), so not seen$"
        )

    def test_marks_that_say_keep_are_kept(self):
        folder = TakeFolder(Take.objects.get(folder="one").path)
        write_cues(folder, (ToScene(0, "scene-1"), Mark(0, " Keep ", 4 * S)))
        material = Material(self.tutorial)
        kept = {row.row.folder: row.kept for row in material.takes.values()}
        self.assertEqual(kept, {"one": [(0, 4 * S)], "two": []})

    def test_values_that_cannot_be_are_refused_where_they_stand(self):
        for wrong in ({"below": "loud"}, {"seconds": "0"}, {"rest": "-1"}, {"faster": "0"}):
            answer = self.change("quiet-out", **{**self.VALUES, **wrong})
            self.assertContains(answer, "is-invalid", status_code=400)
            told = self.client.get(
                self.address("assembly-quiet"), {**self.VALUES, **wrong},
                headers={"Accept": "application/json"},
            )  # fmt: skip
            self.assertEqual(told.status_code, 400)
            self.assertTrue(told.json()["error"])


class Versions(AssemblyCase):
    def test_another_version_begins_as_this_one_is_and_goes_its_own_way(self):
        self.change("out", ("p1", 0), ("p1", 1))
        answer = self.client.post(self.address("new-version"), {"new-name": "short"})
        short = Version.objects.get(name="short")
        self.assertRedirects(answer, short.get_absolute_url())
        self.version = short
        self.change("out", ("p2", 0), ("p2", 1))
        page = self.client.get(self.address("assembly"))
        for words in ("0:06", "0:05", "version “short”"):
            self.assertContains(page, words)
        for name in ("WHOLE", "", "x" * 81):
            refused = self.client.post(self.address("rename-version"), {"name": name})
            self.assertContains(refused, "field-error", status_code=400)
        self.client.post(self.address("rename-version"), {"name": "quick"})
        self.client.post(self.address("delete-version"))
        self.assertEqual([v.name for v in Version.objects.all()], ["whole"])
        self.version = Version.objects.get()
        self.client.post(self.address("delete-version"), follow=True)
        self.assertEqual(Version.objects.count(), 1)
        self.assertContains(self.client.get(self.address("assembly")), "version “quick” deleted")
        self.client.post(self.address("undo-assembly"), {"undo_of": "1", "seen": "2"})
        self.assertEqual([v.name for v in Version.objects.all()], ["whole"])
        self.client.post(self.address("undo-assembly"))
        self.assertEqual([v.name for v in Version.objects.all()], ["whole", "quick"])
        self.client.post(self.address("undo-assembly"))
        self.assertEqual([v.name for v in Version.objects.all()], ["whole", "short"])

    def test_a_tutorial_without_takes_says_what_to_do(self):
        empty = Tutorial.objects.create(name="Empty")
        page = self.client.get(reverse("tutorial-assembly", args=[empty.pk]), follow=True)
        self.assertContains(page, "no take yet")


class Playing(TransactionTestCase):
    def test_a_page_plays_it_and_is_told_what_others_change(self):
        folder = copied_take("assembled-by-page")
        tutorial = Tutorial.objects.create()
        Take.objects.create(
            tutorial=tutorial, root=str(folder.path.parent), folder=folder.path.name,
            name="t", recorded_at=timezone.now(), state=Take.State.COMPLETE,
        )  # fmt: skip
        version = version_of(tutorial, Material(tutorial))
        whole = version.values.pieces[0]

        async def plays():
            socket, news = (
                PageSocket(f"/live/assembly/{version.pk}/{end}") for end in ("", "news/")
            )
            await socket.connect()
            await news.connect()
            found = [(await news.receive_output(20))["text"]]
            for turn, anew in ((1, False), (2, True), (3, True)):
                order = {"turn": turn, "at": 1.0, "rate": 1, "playing": False, "anew": anew}
                await socket.send_json(order)
                while True:
                    said = Message.unpacked((await socket.receive_output(30))["bytes"])
                    if said.kind in (Message.PICTURE, Message.TROUBLE):
                        found.append(said)
                        break
                if turn < 3:
                    change = cut if turn == 1 else gone
                    await sync_to_async(change, thread_sensitive=False)()
                    found.append((await news.receive_output(20))["text"])
            await socket.disconnect()
            await news.disconnect()
            return found

        def cut():
            later = type(whole)("p1", whole.take, 2 * S, 4 * S)
            take_over(
                version=version,
                material=Material(tutorial),
                cuts=type(version.values)((later,)),
                words="later",
            )

        def gone():
            delete_takes(takes=[Take.objects.get()])

        self.addCleanup(PlayerLine.nest.end)
        with mock.patch("channels.db.close_old_connections"):
            _, first, changed, second, _, third = async_to_sync(plays)()
        self.assertEqual((first.kind, second.kind), (Message.PICTURE, Message.PICTURE))
        self.assertEqual(third.kind, Message.TROUBLE)
        self.assertIn("has no take yet", third.body.decode())
        self.assertNotEqual(first.body, second.body)
        self.assertIn("later", changed)


class Files(AssemblyCase):
    def add(self, part, data, name="opening.mp4", **values):
        return self.change(f"file-{part}", file=SimpleUploadedFile(name, data), **values)

    def test_a_video_opens_it_and_a_sound_is_music_until_they_are_taken_away(self):
        data = video(2).getvalue()
        self.add("first", data)
        self.add("last", data)
        self.add("music", data)
        told = self.told()
        self.assertEqual(
            [p["card"] for p in told["pieces"]], ["opening.mp4", "", "", "opening.mp4"]
        )
        self.assertEqual((told["length_s"], len(self.version.values.files)), (11, 1))
        page = self.client.get(self.address("assembly"))
        self.assertContains(page, '<option value="file1" selected>opening.mp4</option>')
        self.change("music", bed="strings", gain_db="-6")
        for piece in (told["pieces"][0], told["pieces"][3]):
            self.change("remove", (piece["id"], 0))
        self.assertEqual(self.version.values.files, ())

    def test_files_that_nothing_needs_any_more_go_but_not_before_undo_has_forgotten_them(self):
        self.add("first", video(2).getvalue())
        folder = Material(self.tutorial).files
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        loose = folder / f"{'0' * 64}.mp4"
        loose.touch()
        for path in folder.iterdir():
            os.utime(path, (0, 0))
        undo(self.version)
        young = folder / f"{'1' * 64}.mp4"
        young.touch()
        self.version.refresh_from_db()
        self.add("music", video(1).getvalue(), "song.mp4")
        there = {path.name for path in folder.glob("*.mp4")}
        self.assertEqual(len(there), 3)
        self.assertNotIn(loose.name, there)

    def test_what_cannot_be_played_is_said_at_the_field(self):
        for answer, words in (
            (self.add("first", b"la la la", "song.mp3"), "cannot be played"),
            (self.add("first", b"la la la", "song.txt"), "neither a video nor a sound"),
            (self.change("file-first"), "Choose a video or sound file"),
        ):
            self.assertContains(answer, words, status_code=400)
            self.assertContains(answer, "is-invalid", status_code=400)
        wav = io.BytesIO()
        with wave.open(wav, "wb") as out:
            out.setparams((1, 2, 48_000, 0, "NONE", ""))
            out.writeframes(bytes(96_000))
        refused = self.add("here", wav.getvalue(), "song.wav", from_piece="p1", from_s="0")
        self.assertIn("Use it as music", refused.json()["error"])
