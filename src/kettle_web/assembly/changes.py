"""What the forms of the assembly page change: a cut list in, the same out."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path
from typing import Any

from django.core.files.uploadedfile import UploadedFile
from django.http import QueryDict
from django.utils.datastructures import MultiValueDict

from kettle_core.assembly.beds import BEDS
from kettle_core.assembly.chapters import Steps
from kettle_core.assembly.cut_changes import (
    at_speed,
    copied,
    moved,
    removed,
    split,
    take_back,
    take_out,
    with_card,
    with_card_as,
    with_fades,
    with_file,
    with_music,
    with_piece_fades,
    with_piece_of_file,
    with_take,
)
from kettle_core.assembly.cut_list import AddedFile, CutList, Known, Music, Piece, Place
from kettle_core.assembly.exchange import exchanged
from kettle_core.assembly.laid import too_short
from kettle_core.assembly.quiet import Shortening, Stretch, shortened
from kettle_core.errors import CutError, KettleError
from kettle_core.timing.ticks import NS_PER_S
from kettle_web.assembly.forms import (
    PLACE_WORDS,
    AddedFileForm,
    CardForm,
    FadesForm,
    MusicForm,
    PieceFadesForm,
    PlaceForm,
    QuietForm,
    SpeedForm,
)
from kettle_web.assembly.material import Material
from kettle_web.assembly.services import keep_file
from kettle_web.frame.asking import WrongFieldError
from kettle_web.frame.editing import Made

Changed = Made[CutList]
Given = MultiValueDict[str, UploadedFile]
Stretches = Mapping[str, Sequence[Stretch]]


@dataclass(frozen=True)
class Asked:
    """A form of the page, with what it can be about."""

    post: QueryDict
    known: Known
    names: Mapping[str, str]
    whole: CutList
    quiet: Stretches = field(default_factory=dict)
    kept: Stretches = field(default_factory=dict)
    steps: Callable[[CutList], Mapping[str, Steps]] = lambda _: {}
    file: AddedFile | None = None

    def place(self) -> Place:
        """Where the play head is, or what is marked begins. Raises CutError."""
        found = self._places()
        return Place(found["from_piece"], round(found["from_s"] * NS_PER_S))

    def _places(self) -> dict[str, Any]:
        form = PlaceForm(self.post)
        if not form.is_valid():
            raise CutError(PLACE_WORDS, "place")
        return form.cleaned_data

    def stretch(self, cuts: CutList) -> tuple[Place, Place]:
        """The stretch that is marked, or the piece at the play head. Raises CutError."""
        found, first = self._places(), self.place()
        if found["until_piece"] and found["until_s"] is not None:
            return first, Place(found["until_piece"], round(found["until_s"] * NS_PER_S))
        piece = cuts.piece(first.piece)
        return Place(piece.id, piece.from_ns), Place(piece.id, piece.until_ns)

    def piece(self, cuts: CutList) -> Piece:
        """The piece that is meant. Raises CutError."""
        return cuts.piece(self.stretch(cuts)[0].piece)


def asked_of(
    post: QueryDict, material: Material, whole: CutList, given: Given | None = None
) -> Asked:
    """What a form asks for, with all that it needs. Raises WrongFieldError, TakeError."""
    names = {take: found.row.name for take, found in material.takes.items()}
    asked = Asked(post, material.known(), names, whole, steps=material.steps)
    if post.get("part", "").startswith("file-"):
        return replace(asked, file=_taken_in(post, given, material.files))
    if post.get("part") not in ("quiet-out", "quiet-faster"):
        return asked
    form = QuietForm(post)
    if not form.is_valid():
        raise WrongFieldError(quiet=form)
    how = form.cleaned_data["below"], form.cleaned_data["seconds"]
    takes = material.takes.items()
    quiet = {take: found.quiet(*how) for take, found in takes}
    kept = {take: found.kept for take, found in takes}
    return replace(asked, quiet=quiet, kept=kept)


def _taken_in(post: QueryDict, given: Given | None, folder: Path) -> AddedFile:
    """The file that was sent, kept."""
    form = AddedFileForm(post, given)
    if form.is_valid():
        file = form.cleaned_data["file"]
        try:
            return keep_file(folder, file, file.name)
        except KettleError as error:
            form.add_error("file", str(error))
    raise WrongFieldError(added=form)


def change(cuts: CutList, asked: Asked) -> Changed:
    """The change that a form asks for. Raises CutError, WrongFieldError."""
    part = asked.post.get("part", "")
    if part not in PARTS:
        raise CutError("This can't be changed here. Reload the page.", "part")
    made, words = PARTS[part](cuts, asked)
    short = too_short(cuts, made, asked.known.fps)
    return made, f"{words}. {short}" if short else words


def _out(cuts: CutList, asked: Asked) -> Changed:
    made = take_out(cuts, asked.known, *asked.stretch(cuts))
    return made, f"{_shorter_s(cuts, made):.1f} s taken out"


def _back(cuts: CutList, asked: Asked) -> Changed:
    made = take_back(cuts, asked.known, *asked.stretch(cuts))
    return made, f"{_shorter_s(made, cuts):.1f} s taken back"


def _speed(cuts: CutList, asked: Asked) -> Changed:
    form = SpeedForm(asked.post)
    if not form.is_valid():
        raise WrongFieldError(speed=form)
    stretched = form.cleaned_data["sound"] == "stretched"
    try:
        made = at_speed(cuts, asked.known, *asked.stretch(cuts), form.percent, stretched)
    except CutError as refused:
        if refused.field != "percent":
            raise
        form.add_error("speed", str(refused))
        raise WrongFieldError(speed=form) from refused
    return made, speed_words(form.percent, stretched)


def speed_words(percent: int, stretched: bool) -> str:
    """A speed as it is read on the lines."""
    if percent == 100:
        return "as recorded"
    return f"× {percent / 100:g}" + ("" if stretched else ", no sound")


def _split(cuts: CutList, asked: Asked) -> Changed:
    place = asked.place()
    return split(cuts, asked.known, place), f"parted at {place.at_ns / NS_PER_S:.1f} s of its take"


def _rest_out(is_before: bool, cuts: CutList, asked: Asked) -> Changed:
    """A piece trimmed: what lies before the play head goes, or what lies after it."""
    place = asked.place().now(cuts)
    piece = cuts.piece(place.piece)
    end = Place(piece.id, piece.from_ns if is_before else piece.until_ns)
    made = take_out(cuts, asked.known, place, end)
    words = "before" if is_before else "after"
    return made, f"{_shorter_s(cuts, made):.1f} s {words} the play head taken out"


def _exchange(cuts: CutList, asked: Asked) -> Changed:
    take = asked.post.get("take", "")
    if take not in asked.names:
        raise CutError("This take is not there any more. Choose another one.", "take")
    made, step = exchanged(cuts, asked.known, asked.steps(cuts), asked.place(), take)
    return made, f"“{step}” from “{asked.names[take]}”"


def _move(by: int, cuts: CutList, asked: Asked) -> Changed:
    """Before the piece before it, or after the one after it."""
    piece = asked.piece(cuts)
    there = cuts.pieces.index(piece) + (by if by < 0 else by + 1)
    if there < 0:
        return cuts, ""
    before = cuts.pieces[there].id if there < len(cuts.pieces) else ""
    return moved(cuts, [piece.id], before), f"a piece moved {'on' if by > 0 else 'back'}"


def _copy(cuts: CutList, asked: Asked) -> Changed:
    return copied(cuts, asked.piece(cuts).id), "a piece doubled"


def _remove(cuts: CutList, asked: Asked) -> Changed:
    return removed(cuts, asked.piece(cuts).id), "a piece removed"


def _add(cuts: CutList, asked: Asked) -> Changed:
    take = asked.post.get("take", "")
    if take not in asked.names:
        raise CutError("This take is not there any more. Choose another one.", "take")
    return with_take(cuts, asked.known, take), f"“{asked.names[take]}” added"


def _card(cuts: CutList, asked: Asked) -> Changed:
    """A card more, before the piece at the play head; or the one that is there otherwise."""
    form = CardForm(asked.post)
    if not form.is_valid():
        raise WrongFieldError(card=form)
    what = form.card, form.length_ns
    words = form.card.text.partition("\n")[0][:40]
    if asked.post.get("part") == "card-as":
        piece = asked.piece(cuts)
        return with_card_as(cuts, asked.known, piece.id, *what), f"card “{words}”"
    before = "" if asked.post.get("part") == "card-last" else _piece_from(cuts, asked)
    return with_card(cuts, asked.known, *what, before), f"card “{words}” added"


def _piece_from(cuts: CutList, asked: Asked) -> str:
    """The piece that a card comes before, "" for the end of all."""
    if not cuts.pieces:
        return ""
    return asked.piece(cuts).id


def _file(as_what: str, cuts: CutList, asked: Asked) -> Changed:
    """A file that was sent: as opening, ending, here, or as music."""
    if asked.file is None:
        raise CutError("Choose a video or sound file.", "file")
    cuts, file = with_file(cuts, asked.file)
    if as_what == "music":
        music = replace(cuts.music or Music(file.id), bed=file.id)
        return with_music(cuts, music), f"“{file.name}” as music"
    before = ""
    if as_what == "first" and cuts.pieces:
        before = cuts.pieces[0].id
    elif as_what == "here":
        before = _piece_from(cuts, asked)
    return with_piece_of_file(cuts, asked.known, file.id, before), f"“{file.name}” added"


def _fades(cuts: CutList, asked: Asked) -> Changed:
    form = FadesForm(asked.post)
    if not form.is_valid():
        raise WrongFieldError(fades=form)
    values = form.cleaned_data
    made = with_fades(cuts, values["fade_in"], values["fade_out"])
    return made, f"fades of {values['fade_in']} and {values['fade_out']} ms"


def _piece_fades(cuts: CutList, asked: Asked) -> Changed:
    form = PieceFadesForm(asked.post)
    if not form.is_valid():
        raise WrongFieldError(piece_fades=form)
    values = form.cleaned_data["fade_in"], form.cleaned_data["fade_out"]
    made = with_piece_fades(cuts, asked.piece(cuts).id, *values)
    return made, f"a piece fades within {values[0]} and {values[1]} ms"


def _music(cuts: CutList, asked: Asked) -> Changed:
    form = MusicForm(asked.post, files=cuts.files)
    if not form.is_valid():
        raise WrongFieldError(music=form)
    music = form.music
    words = f"{_music_name(cuts, music)} at {music.gain_db:g} dB" if music else "no music"
    return with_music(cuts, music), words


def _music_name(cuts: CutList, music: Music) -> str:
    file = cuts.file(music.bed)
    return file.name if file else BEDS[music.bed][0]


def _gone_out(cuts: CutList, asked: Asked) -> Changed:
    left = (p for p in cuts.pieces if asked.known.length_ns(cuts, p.take) is not None)
    return replace(cuts, pieces=tuple(left)), "pieces of deleted takes removed"


def _quiet(faster: bool, cuts: CutList, asked: Asked) -> Changed:
    form = QuietForm(asked.post)
    if not form.is_valid():
        raise WrongFieldError(quiet=form)
    made = shortened(cuts, asked.known, asked.quiet, asked.kept, shortening(form, faster))
    number = len(made.pieces) - len(cuts.pieces)
    if made == cuts:
        raise CutError("No stretch is quiet by these two values. Nothing was changed.", "below")
    words = speed_words(shortening(form, True).percent, False) if faster else "taken out"
    return made, f"quiet stretches {words} ({(number + 1) // 2})"


def shortening(form: QuietForm, faster: bool) -> Shortening:
    """What a checked form says becomes of quiet stretches."""
    rest_ns = form.cleaned_data["rest"] * 10**6
    percent = round(form.cleaned_data["faster"] * 100) if faster else 0
    return Shortening(rest_ns, percent)


def _anew(_: CutList, asked: Asked) -> Changed:
    return asked.whole, "all takes, whole"


PARTS: dict[str, Callable[[CutList, Asked], Changed]] = {
    "out": _out,
    "back": _back,
    "speed": _speed,
    "split": _split,
    "before-out": partial(_rest_out, True),
    "after-out": partial(_rest_out, False),
    "exchange": _exchange,
    "earlier": partial(_move, -1),
    "later": partial(_move, 1),
    "copy": _copy,
    "remove": _remove,
    "add": _add,
    "card-here": _card,
    "card-last": _card,
    "card-as": _card,
    "file-first": partial(_file, "first"),
    "file-last": partial(_file, "last"),
    "file-here": partial(_file, "here"),
    "file-music": partial(_file, "music"),
    "fades": _fades,
    "piece-fades": _piece_fades,
    "music": _music,
    "gone": _gone_out,
    "quiet-out": partial(_quiet, False),
    "quiet-faster": partial(_quiet, True),
    "anew": _anew,
}


def _shorter_s(long: CutList, short: CutList) -> float:
    return float(long.length_ns - short.length_ns) / NS_PER_S
