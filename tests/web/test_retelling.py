"""What a version tells otherwise than its takes: scenes, pictures, sounds, chapters, readings."""

from contextlib import closing

from kettle_core.program.cues import CloseUp, Hide, Mark, Step, ToScene
from kettle_media.assembly.show import show_of_assembly
from kettle_media.take.cues import write_cues
from kettle_media.take.folder import TakeFolder
from kettle_web.assembly.material import Material
from kettle_web.frame.editing import undo
from kettle_web.models import Take, Version
from tests.web.test_assembly import AssemblyCase

S = 10**9


class RetoldCase(AssemblyCase):
    CHANGE = "retell-assembly"

    def cues(self, folder, *cues):
        write_cues(TakeFolder(Take.objects.get(folder=folder).path), cues)

    def scenes(self):
        """(program time in s, scene, whether the webcam is seen) of each stretch."""
        material = Material(self.tutorial)
        with closing(
            show_of_assembly(material.folders, self.version.values, material.format)
        ) as show:
            return [
                (
                    round(float(x.first_frame / show.plan.fps), 2),
                    x.scene.scene_id,
                    "webcam-1" in {layer.input_id for layer in x.scene.layers},
                )
                for x in show.plan.stretches
            ]


class Scenes(RetoldCase):
    def test_a_scene_and_a_hidden_picture_count_in_this_version_only(self):
        before = self.scenes()
        self.change("scene", ("p1", 1.0), ("p1", 2.0), scene="scene-2")
        self.change("hide", ("p2", 0.5), ("p2", 1.5), input="webcam-1")
        seen = self.scenes()
        self.assertIn((1.0, "scene-2"), [row[:2] for row in seen])
        self.assertIn((2.0, "scene-1"), [row[:2] for row in seen])
        self.assertIn((4.5, "scene-1", False), seen)
        self.assertIn((5.5, "scene-1", True), seen)
        told = self.told()["takes"]
        names = [[s["at_s"] for s in take.get("scenes", [])] for take in told.values()]
        self.assertEqual(names, [[0, 1, 2], [0]])
        page = self.client.get(self.address("assembly"))
        self.assertContains(page, "Only in this version: 4 changes of takes")
        # The takes are as they were, and so is another version.
        self.assertEqual([take.values.cues for take in Take.objects.all()], [None, None])
        self.client.post(self.address("new-version"), {"new-name": "short"})
        self.change("as-takes")
        self.assertEqual(self.scenes(), before)
        self.version = Version.objects.get(name="short")
        self.assertEqual(self.scenes(), seen)

    def test_what_is_changed_of_the_take_later_counts_here_too(self):
        self.change("hide", ("p1", 1.0), ("p1", 2.0), input="webcam-1")
        self.cues("one", Hide(3 * S, "webcam-1"))
        seen = self.scenes()
        shown = [(at, webcam) for at, _, webcam in seen if at in (1, 2, 3)]
        self.assertEqual(shown, [(1, False), (2, True), (3, False)])

    def test_a_cue_of_the_take_is_left_out_here_and_comes_back(self):
        self.cues("one", ToScene(2 * S, "scene-2"))
        take = self.version.values.pieces[0].take
        self.change("drop", take=take, cue=f"scene@{2 * S}:scene-2")
        self.assertEqual({row[1] for row in self.scenes()}, {"scene-1"})
        undo(self.version)
        self.version.refresh_from_db()
        self.assertEqual({row[1] for row in self.scenes()}, {"scene-1", "scene-2"})

    def test_a_scene_is_moved_within_its_take(self):
        self.cues("one", ToScene(2 * S, "scene-2"))
        take = self.version.values.pieces[0].take
        (_, row) = self.client.get(self.told()["takes"][take]["overview"]).json()["scenes"]
        self.assertEqual(row["cue"], f"scene@{2 * S}:scene-2")
        moved = {"take": take, "cue": row["cue"]}
        self.change("move", ("p1", 3.0), **moved)
        self.assertIn((3.0, "scene-2"), [row[:2] for row in self.scenes()])
        (told,) = [one for one in self.told()["takes"].values() if "scenes" in one]
        self.assertEqual([(s["at_s"], s["cue"]) for s in told["scenes"]],
                         [(0, ""), (3, f"scene@{3 * S}:scene-2")])  # fmt: skip
        # Another scene at the same moment comes in its place.
        self.change("scene", ("p1", 3.0), scene="scene-1")
        self.assertNotIn("scene-2", {row[1] for row in self.scenes()})
        answer = self.change("move", ("p2", 1.0), **moved)
        self.assertIn("That is another take", answer.json()["error"])
        gone = self.change("move", ("p1", 1.0), take=take, cue="scene@9:scene-9")
        self.assertIn("is gone", gone.json()["error"])

    def test_a_close_up_over_a_stretch(self):
        self.change("near", ("p1", 1.0), ("p1", 3.0), input="display-1", times="2", length_ms="300")
        (told,) = self.version.values.retold
        self.assertEqual([type(cue) for cue in told.cues], [CloseUp, CloseUp])
        self.assertEqual([cue.at_ns for cue in told.cues], [S, 3 * S])
        drawn = {"left": 160, "top": 0, "width": 160, "height": 90}
        near = {"input": "display-1", "times": "drawn", "length_ms": "300", "follows": ""}
        self.change("near", ("p1", 1.0), ("p1", 3.0), **near, **drawn)
        (told,) = self.version.values.retold
        part = told.cues[0].part
        # It was twice as near already.
        self.assertEqual((part.width, part.height), (240, 135))
        for values, words in (
            ({}, "Nothing was drawn"),
            ({**drawn, "top": 5000}, "beside Main display"),
        ):
            answer = self.change("near", ("p1", 1.0), ("p1", 3.0), **near, **values)
            self.assertIn(words, answer.json()["error"])
        wrong = self.change(
            "near", ("p1", 1.0), ("p1", 3.0), input="display-1", times="2", length_ms="-1"
        )
        self.assertContains(wrong, "A close-up comes within", status_code=400)

    def test_a_layer_is_placed_for_a_stretch(self):
        address = self.address("assembly-layers")
        there = self.client.get(address, {"from_piece": "p1", "from_s": "1.0"}).json()
        layer = there["layers"][-1]
        box = {"left": "100", "top": "80", "width": "320", "height": "320"}
        placed = {"scene": there["scene"], "layer": layer["id"], "turn": "0", **box}
        self.change("place", ("p1", 1.0), ("p1", 2.0), **placed)
        lefts = [
            self.client.get(address, {"from_piece": "p1", "from_s": at}).json()["layers"][-1]["box"]
            for at in ("0.5", "1.5", "2.5")
        ]
        self.assertEqual([box["left"] == 100 for box in lefts], [False, True, False])
        gone = self.client.get(
            address, {"from_piece": "p9", "from_s": "1"}, headers={"Accept": "application/json"}
        )
        self.assertIn("is gone", gone.json()["error"])

    def test_what_cannot_be_is_refused(self):
        for values, words in (
            ({"part": "scene", "scene": "gone"}, "not in the take"),
            ({"part": "hide", "input": "nobody"}, "not in the take"),
            ({"part": "nothing"}, "can't be changed here"),
        ):
            answer = self.change(values.pop("part"), ("p1", 0), ("p1", 1), **values)
            self.assertIn(words, answer.json()["error"])
        over_two = self.change("hide", ("p1", 1), ("p2", 1), input="webcam-1")
        self.assertIn("of two takes", over_two.json()["error"])
        self.assertEqual(self.version.values.retold, ())


class Chapters(RetoldCase):
    def rows(self):
        found = Material(self.tutorial).chapters(self.version.values)
        return [(row.at_ns / S, row.title) for row in found]

    def test_chapters_are_named_here_called_otherwise_and_taken_out(self):
        self.cues("one", Step(0, "Fold"), Mark(3 * S, "Glue"), Mark(2 * S, ""))
        self.change("chapter", ("p2", 1.0), title="Sew")
        self.assertEqual(self.rows(), [(0, "Fold"), (5, "Sew")])
        take = self.version.values.pieces[0].take
        self.change("call", take=take, cue="step@0:Fold", title="Fold it twice")
        self.change("chapters-of-marks")
        self.assertEqual(self.rows(), [(0, "Fold it twice"), (3, "Glue"), (5, "Sew")])
        self.assertIn("no chapter yet", self.change("chapters-of-marks").json()["error"])
        self.change("drop", take=take, cue=f"step@{3 * S}:Glue")
        self.assertEqual([title for _, title in self.rows()], ["Fold it twice", "Sew"])
        steps = [take.get("steps") for take in self.told()["takes"].values()]
        self.assertEqual([s["words"] for s in steps[0]], ["Fold it twice"])
        wrong = self.change("chapter", ("p1", 1), title=" ")
        self.assertContains(wrong, "A chapter has a name", status_code=400)
        wrong = self.change("call", take=take, cue="step@0:Fold it twice", title="x" * 201)
        self.assertContains(wrong, "is-invalid", status_code=400)
        gone = self.change("call", take=take, cue="step@0:Fold", title="x")
        self.assertIn("is gone", gone.json()["error"])


class Named(RetoldCase):
    def test_a_chapter_that_is_named_here_is_a_step_that_can_be_exchanged(self):
        self.cues("two", Step(S, "Sew"))
        self.change("chapter", ("p1", 2.0), title="sew")
        one, two = (piece.take for piece in self.version.values.pieces)
        self.CHANGE = "change-assembly"
        self.change("exchange", ("p1", 3.0), take=two)
        rows = [(p.take, p.from_ns / S, p.until_ns / S) for p in self.version.values.pieces]
        self.assertEqual(rows, [(one, 0, 2), (two, 1, 3), (two, 0, 3)])

    def test_what_only_the_takes_page_changes_is_refused_here(self):
        for part in ("nudge", "original", "name"):
            answer = self.change(part, ("p1", 0), track="headset", ms="10")
            self.assertIn("can't be changed here", answer.json()["error"])


class Readings(AssemblyCase):
    def test_a_step_is_exchanged_for_another_takes_reading_and_a_piece_trimmed(self):
        for folder, cues in (
            ("one", (Step(0, "Fold"), Step(S, "Sew"), Step(3 * S, "Glue"))),
            ("two", (Step(0, "Open"), Step(S // 2, "sew "), Step(2 * S, "Fold"))),
        ):
            write_cues(TakeFolder(Take.objects.get(folder=folder).path), cues)
        one, two = (piece.take for piece in self.version.values.pieces)
        self.change("out", ("p1", 1.2), ("p1", 1.6))
        answer = self.change("exchange", ("p1", 0.2), take=one)
        self.assertIn("this take's reading", answer.json()["error"])
        self.change("exchange", ("p1", 0.2), take=two)
        takes = [(p.take, p.from_ns / S, p.until_ns / S) for p in self.version.values.pieces]
        self.assertEqual(takes[0], (two, 2, 3))
        self.assertEqual(takes[1][:2], (one, 1))
        undo(self.version)
        self.version.refresh_from_db()
        piece = next(p.id for p in self.version.values.pieces if p.from_ns == 1.6 * S)
        self.change("exchange", (piece, 2.0), take=two)
        rows = [(p.take, p.from_ns / S, p.until_ns / S) for p in self.version.values.pieces]
        self.assertEqual(
            rows, [(one, 0, 1), (two, 0.5, 2), (one, 3, 4), (two, 0, 3)],
        )  # fmt: skip
        last = self.version.values.pieces[-2].id
        answer = self.change("exchange", (last, 3.5), take=two)
        self.assertIn("no step “Glue”", answer.json()["error"])
        self.change("before-out", (last, 3.5))
        self.change("after-out", ("p2", 1.0))
        out = [(p.from_ns / S, p.until_ns / S) for p in self.version.values.pieces if p.out]
        self.assertEqual(out, [(3, 3.5), (1, 3)])
