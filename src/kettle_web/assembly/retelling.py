"""What a version tells of its takes otherwise: the take page's changes, kept in the cut list."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

from django.http import QueryDict

from kettle_core.assembly.cut_changes import with_retold
from kettle_core.assembly.cut_list import CutList
from kettle_core.assembly.retold import Retold
from kettle_core.errors import CutError
from kettle_core.program.afterwards import Afterwards, Recorded, cue_id, with_cue
from kettle_core.program.cues import Mark, Step
from kettle_core.rig.rig import Input
from kettle_core.scene.scene import Scene
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.take.pointers import pointer_way
from kettle_web.assembly.changes import Asked, Changed
from kettle_web.assembly.forms import ChapterForm
from kettle_web.assembly.material import Material, TakeOf
from kettle_web.frame.asking import WrongFieldError
from kettle_web.takes import changes as of_take
from kettle_web.takes.now import TakeNow
from kettle_web.takes.overview import cue_rows, layers_at

# What is changed of a take without a place, by the id of a cue.
BY_CUE = ("drop", "call")
CHAPTERS = ("chapter", "call")
# What else of the take page's changes is made here: by the cues that come of it.
OF_TAKE = (*of_take.SWITCHES, "scene", "place", "near", "far", "drop", "move")
MOST_LISTED = 100


def retell(cuts: CutList, asked: Asked, material: Material) -> Changed:
    """The change that a form asks for. Raises CutError, CueError, WrongFieldError."""
    part = asked.post.get("part", "")
    if part == "as-takes":
        return replace(cuts, retold=()), "scenes, pictures and sounds as in the takes"
    if part == "chapters-of-marks":
        return _chapters_of_marks(cuts, material)
    if part not in (*OF_TAKE, *CHAPTERS):
        raise CutError("This can't be changed here. Reload the page.", "part")
    take, from_s, until_s = asked.post.get("take", ""), 0.0, None
    if part == "chapter":
        place = asked.place().now(cuts)
        take, from_s = cuts.piece(place.piece).take, place.at_ns / NS_PER_S
    elif part == "move":
        from_s = _moved_to(cuts, asked, take)
    elif part not in BY_CUE:
        take, from_s, until_s = _stretch(cuts, asked)
    found = material.takes.get(take)
    if found is None:
        raise CutError("This is no piece of a take. Go to one first.", "piece")
    own, now = _own(found, cuts)
    if part in CHAPTERS:
        made, words = _chapter(now, own, asked.post, round(from_s * NS_PER_S), found)
    else:
        post = asked.post.copy()
        if part == "drop":
            post["part"] = "out"
        post["at_s"] = f"{from_s:.6f}"
        post["until_s"] = "" if until_s is None else f"{until_s:.6f}"
        way_of = partial(pointer_way, found.now.folder)
        made, words = of_take.change(now, of_take.Asked(post, own, found.now.take_time, way_of))
    return with_retold(cuts, Retold.between(take, own.cues, made.cues_now(own.cues))), words


def layers_there(cuts: CutList, asked: Asked, material: Material) -> dict[str, Any]:
    """The layers that are seen where the play head is, or at what is marked. Raises CutError."""
    place = asked.place().now(cuts)
    found = material.takes.get(cuts.piece(place.piece).take)
    if found is None:
        raise CutError("This is no piece of a take. Go to one first.", "piece")
    return layers_at(found.told(cuts), place.at_ns / NS_PER_S)


def _own(found: TakeOf, cuts: CutList) -> tuple[Recorded, Afterwards]:
    """A take as it tells itself, and what was changed of that here so far."""
    was = replace(found.now.was, cues=found.now.cues)
    return was, Afterwards(cuts.retold_of(found.now.info.id).now(was.cues))


def _stretch(cuts: CutList, asked: Asked) -> tuple[str, float, float]:
    """The take that is meant, from and until in s of it."""
    begins, ends = (place.now(cuts) for place in asked.stretch(cuts))
    take = cuts.piece(begins.piece).take
    if cuts.piece(ends.piece).take != take:
        raise CutError("What is marked is of two takes. Mark a stretch of one of them.", "until")
    from_s, until_s = sorted((begins.at_ns / NS_PER_S, ends.at_ns / NS_PER_S))
    return take, from_s, until_s


def _moved_to(cuts: CutList, asked: Asked, take: str) -> float:
    """Where in its take something is moved to, in s."""
    place = asked.place().now(cuts)
    if cuts.piece(place.piece).take != take:
        raise CutError("That is another take. What is told of a take stays in it.", "take")
    return place.at_ns / NS_PER_S


def _chapter(
    now: Afterwards, own: Recorded, post: QueryDict, at_ns: int, found: TakeOf
) -> tuple[Afterwards, str]:
    """A chapter more where the play head is, or one that is called otherwise."""
    form = ChapterForm(post)
    if not form.is_valid():
        cue = post.get("cue")
        raise WrongFieldError(**{f"chapter:{cue}" if cue else "chapter": form})
    title = form.cleaned_data["title"]
    if post.get("part") == "call":
        step = next((c for c in now.cues_now(own.cues) if cue_id(c) == post.get("cue")), None)
        if not isinstance(step, Step):
            raise CutError("This chapter is gone. Reload the page.", "cue")
        cues = tuple(replace(c, step=title) if c is step else c for c in now.cues_now(own.cues))
        return replace(now, cues=cues), f"chapter called “{title}”"
    source = found.now.take_time.source_at(at_ns)[1]
    return with_cue(now, own, Step(round(source), title)), f"chapter “{title}”"


def _chapters_of_marks(cuts: CutList, material: Material) -> Changed:
    number, used = 0, {piece.take for piece in cuts.shown}
    for take, found in material.takes.items():
        if take not in used:
            continue
        own, now = _own(found, cuts)
        there = {c.at_ns for c in now.cues_now(own.cues) if isinstance(c, Step)}
        for mark in found.told(cuts).said.marks:
            if mark.text and mark.at_ns not in there:
                now, number = with_cue(now, own, Step(mark.at_ns, mark.text)), number + 1
        cuts = with_retold(cuts, Retold.between(take, own.cues, now.cues_now(own.cues)))
    if not number:
        raise CutError("No mark of these takes has words that are no chapter yet.", "title")
    return cuts, f"{number} chapter{'s' if number > 1 else ''} from marks"


@dataclass(frozen=True)
class Choices:
    """What forms can choose of all takes of a version: scenes, pictures, sounds."""

    scenes: list[Scene]
    pictures: list[Input]
    sounds: list[Input]


def choices(material: Material) -> Choices:
    """Those of all takes; what is called the same in several of them once."""
    scenes: dict[str, Scene] = {}
    inputs: dict[str, Input] = {}
    for found in material.takes.values():
        was = found.now.was
        scenes = {s.id: s for s in was.rig.scenes} | scenes
        inputs = {i.id: i for i in was.rig.inputs if i.id in was.tracks} | inputs
    return Choices(
        list(scenes.values()),
        [i for i in inputs.values() if i.is_picture],
        [i for i in inputs.values() if not i.is_picture],
    )


def retold_rows(cuts: CutList, material: Material) -> list[dict[str, Any]]:
    """What a version tells otherwise, by takes and times; in s of the take."""
    rows = []
    for told in cuts.retold:
        found = material.takes.get(told.take)
        if found is None:
            continue
        now: TakeNow = found.told(cuts)
        whose = {"take": told.take, "name": found.row.name}
        rows += [{**row, **whose} for row in cue_rows(now, told.cues, (Step, Mark))]
    return rows[:MOST_LISTED]


@dataclass(frozen=True)
class ChapterRow:
    """A chapter as it is listed: when it begins in s of the program, the form of its name.

    One that is no step of a take has no form.
    """

    at_s: float
    title: str
    take: str = ""
    cue: str = ""
    form: ChapterForm | None = None

    @property
    def words(self) -> str:
        """What its buttons move and take out."""
        return f"the chapter {self.title}"


def chapter_rows(
    cuts: CutList, material: Material, wrong: Mapping[str, ChapterForm]
) -> list[ChapterRow]:
    """All chapters of a version, with forms that were wrong."""
    told = {take: found.told(cuts) for take, found in material.takes.items()}
    rows = []
    for number, chapter in enumerate(material.chapters(cuts)):
        at_s = chapter.at_ns / NS_PER_S
        if not chapter.take:
            rows.append(ChapterRow(at_s, chapter.title))
            continue
        cue = cue_id(told[chapter.take].said.steps[chapter.step])
        given = {"initial": {"title": chapter.title}, "auto_id": f"chapter-{number}-%s"}
        form = wrong.get(f"chapter:{cue}") or ChapterForm(**given)
        rows.append(ChapterRow(at_s, chapter.title, chapter.take, cue, form))
    return rows
