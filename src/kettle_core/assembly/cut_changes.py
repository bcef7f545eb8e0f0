"""Changes of a cut list: a list in, the changed list out."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from fractions import Fraction
from itertools import count
from math import floor
from typing import Literal

from kettle_core.assembly.cut_list import (
    LEAST_PERCENT,
    MOST_CARDS,
    MOST_FADE_MS,
    MOST_FILES,
    MOST_PERCENT,
    MOST_PIECES,
    AddedFile,
    CutList,
    Known,
    Music,
    Piece,
    Place,
    TitleCard,
    checked,
)
from kettle_core.assembly.laid import unseen
from kettle_core.assembly.retold import Retold
from kettle_core.errors import CutError
from kettle_core.rig.rig import Card
from kettle_core.timing.ticks import NS_PER_S


def with_take(cuts: CutList, known: Known, take: str, at_end: bool = True) -> CutList:
    """A whole take more. Raises CutError."""
    piece = Piece(new_id(cuts), take, 0, known.takes.get(take, 0))
    before = "" if at_end or not cuts.pieces else cuts.pieces[0].id
    return _with_piece(cuts, known, piece, before)


def with_card(cuts: CutList, known: Known, card: Card, length_ns: int, before: str) -> CutList:
    """A card more, before a piece; at the end if there is none. Raises CutError."""
    named = TitleCard(next(_ids("card", (c.id for c in cuts.cards))), card)
    if len(cuts.cards) >= MOST_CARDS:
        raise CutError(f"A cut list has at most {MOST_CARDS} cards. Remove one first.", "text")
    there = replace(cuts, cards=(*cuts.cards, named))
    return _with_piece(there, known, Piece(new_id(cuts), named.id, 0, length_ns), before)


def with_card_as(cuts: CutList, known: Known, piece_id: str, card: Card, length_ns: int) -> CutList:
    """A piece's card otherwise, and as long. Raises CutError."""
    piece = cuts.piece(piece_id)
    if cuts.card(piece.take) is None:
        raise CutError("This piece is of a take, not of a card.", "piece")
    cards = tuple(replace(c, card=card) if c.id == piece.take else c for c in cuts.cards)
    return trimmed(replace(cuts, cards=cards), known, piece_id, 0, length_ns)


def with_file(cuts: CutList, file: AddedFile) -> tuple[CutList, AddedFile]:
    """A file more that pieces can be of, with an id of its own; one that is there is not doubled.

    Raises CutError.
    """
    there = next((f for f in cuts.files if f.digest == file.digest), None)
    if there:
        return cuts, there
    if len(cuts.files) >= MOST_FILES:
        raise CutError(f"A cut list has at most {MOST_FILES} files. Remove one first.", "file")
    named = replace(file, id=next(_ids("file", (f.id for f in cuts.files))))
    return replace(cuts, files=(*cuts.files, named)), named


def with_piece_of_file(cuts: CutList, known: Known, file_id: str, before: str) -> CutList:
    """A whole file, before a piece; at the end if there is none. Raises CutError."""
    file = cuts.file(file_id)
    if file is None:
        raise CutError("This file is gone from the cut list. Reload the page.", "file")
    if not file.has_picture:
        raise CutError(f"“{file.name}” has no picture. Use it as music.", "file")
    return _with_piece(cuts, known, Piece(new_id(cuts), file.id, 0, file.length_ns), before)


def with_music(cuts: CutList, music: Music | None) -> CutList:
    """With a bed under the whole, or without one."""
    return replace(cuts, music=music)


def with_fades(cuts: CutList, in_ms: int, out_ms: int) -> CutList:
    """Out of black and into it within other times. Raises CutError."""
    _check_fades(in_ms, out_ms)
    return replace(cuts, fade_in_ms=in_ms, fade_out_ms=out_ms)


def with_retold(cuts: CutList, told: Retold) -> CutList:
    """With a take told otherwise than before, or as it tells itself."""
    others = tuple(r for r in cuts.retold if r.take != told.take)
    mine = (told,) if told != Retold(told.take) else ()
    return replace(cuts, retold=(*others, *mine))


def with_piece_fades(cuts: CutList, piece_id: str, in_ms: int, out_ms: int) -> CutList:
    """A piece out of black and into it within other times. Raises CutError."""
    _check_fades(in_ms, out_ms)
    piece = cuts.piece(piece_id)
    return _with_piece_as(cuts, replace(piece, fade_in_ms=in_ms, fade_out_ms=out_ms))


def split(cuts: CutList, known: Known, place: Place) -> CutList:
    """A piece as two, parted on a frame; at its ends nothing changes. Raises CutError."""
    place = place.now(cuts)
    piece = cuts.piece(place.piece)
    at_ns = on_frame(piece, place.at_ns, known.fps)
    if not piece.from_ns < at_ns < piece.until_ns:
        return cuts
    return parted(cuts, piece, at_ns)


def parted(cuts: CutList, piece: Piece, at_ns: int) -> CutList:
    """A piece as two, parted at a time within it; its fades stay at its ends. Raises CutError."""
    number = cuts.pieces.index(piece)
    parts = (
        replace(piece, until_ns=at_ns, fade_out_ms=0),
        replace(piece, id=new_id(cuts), from_ns=at_ns, fade_in_ms=0),
    )
    return within_limit(cuts, (*cuts.pieces[:number], *parts, *cuts.pieces[number + 1 :]))


def take_out(cuts: CutList, known: Known, begins: Place, ends: Place) -> CutList:
    """Without what lies between two places; the gap is closed on all tracks. Raises CutError."""
    return changed_between(cuts, known, begins, ends, {"out": True})


def take_back(cuts: CutList, known: Known, begins: Place, ends: Place) -> CutList:
    """With what was taken out between two places; it joins what it goes on with.

    Raises CutError.
    """
    return joined(changed_between(cuts, known, begins, ends, {"out": False}))


def at_speed(
    cuts: CutList, known: Known, begins: Place, ends: Place, percent: int, stretched: bool
) -> CutList:
    """What lies between two places faster or slower; at 100 as it was. Raises CutError."""
    if not LEAST_PERCENT <= percent <= MOST_PERCENT:
        raise CutError(
            f"A speed is {LEAST_PERCENT / 100:g} to {MOST_PERCENT / 100:g} ×, "
            f"got {percent / 100:g}.",
            "percent",
        )
    sound: Literal["off", "stretched"] = "stretched" if stretched and percent != 100 else "off"
    values = {"percent": percent, "sound": sound}
    made = joined(changed_between(cuts, known, begins, ends, values))
    _check_seen(cuts, made, known.fps, percent)
    return made


def _check_seen(cuts: CutList, made: CutList, fps: Fraction, percent: int) -> None:
    """Raise CutError where a stretch would be over within less than half a frame."""
    for piece in unseen(cuts, made, fps):
        length_ns = piece.until_ns - piece.from_ns
        most = floor(length_ns * fps / NS_PER_S * 100)
        if piece.percent == percent > most:
            raise CutError(
                f"At {percent / 100:g} × these {length_ns / NS_PER_S:.2f} s would be shorter than "
                f"half a frame. Choose at most {most / 100:g} ×, or take them out.",
                "percent",
            )


def trimmed(cuts: CutList, known: Known, piece_id: str, from_ns: int, until_ns: int) -> CutList:
    """A piece that begins or ends elsewhere in its take. Raises CutError."""
    made = replace(cuts.piece(piece_id), from_ns=from_ns, until_ns=until_ns)
    return checked(_with_piece_as(cuts, made), known)


def moved(cuts: CutList, piece_ids: Sequence[str], before: str) -> CutList:
    """Pieces, in the order they have, before another one; at the end if there is none.

    Raises CutError.
    """
    going = [cuts.piece(one) for one in dict.fromkeys(piece_ids)]
    if before in piece_ids:
        return cuts
    going.sort(key=cuts.pieces.index)
    rest = [p for p in cuts.pieces if p not in going]
    place = rest.index(cuts.piece(before)) if before else len(rest)
    return replace(cuts, pieces=(*rest[:place], *going, *rest[place:]))


def copied(cuts: CutList, piece_id: str) -> CutList:
    """A piece once more, after itself. Raises CutError."""
    number = cuts.pieces.index(cuts.piece(piece_id)) + 1
    again = replace(cuts.pieces[number - 1], id=new_id(cuts))
    return within_limit(cuts, (*cuts.pieces[:number], again, *cuts.pieces[number:]))


def removed(cuts: CutList, piece_id: str) -> CutList:
    """Without a piece; unlike what is taken out it does not stay. Raises CutError."""
    piece = cuts.piece(piece_id)
    return tidied(replace(cuts, pieces=tuple(p for p in cuts.pieces if p is not piece)))


def tidied(cuts: CutList) -> CutList:
    """Without cards that no piece is of, and without files that are not used."""
    used = {piece.take for piece in cuts.pieces} | {cuts.music.bed if cuts.music else ""}
    cards = tuple(c for c in cuts.cards if c.id in used)
    return replace(cuts, cards=cards, files=tuple(f for f in cuts.files if f.id in used))


def joined(cuts: CutList) -> CutList:
    """With pieces that go on with each other as one, which keeps the first one's id."""
    found: list[Piece] = []
    for piece in cuts.pieces:
        if found and found[-1].goes_on_with(piece):
            found[-1] = replace(found[-1], until_ns=piece.until_ns, fade_out_ms=piece.fade_out_ms)
        else:
            found.append(piece)
    return replace(cuts, pieces=tuple(found))


def changed_between(
    cuts: CutList, known: Known, begins: Place, ends: Place, values: Mapping[str, object]
) -> CutList:
    """With other values of all that lies between two places, in whatever order they are given.

    Raises CutError.
    """
    places = (place.now(cuts) for place in (begins, ends))
    first, last = sorted(places, key=lambda place: _order(cuts, place))
    # The later one first: it does not move the earlier one, which may lie in the same piece.
    parted = split(split(cuts, known, last), known, first)
    start = _first_at(parted, cuts.piece(first.piece), first, known)
    end = _first_at(parted, cuts.piece(last.piece), last, known)
    if start >= end:
        raise CutError("Nothing lies between these two places. Mark a stretch.", "until")
    pieces = list(parted.pieces)
    for number in range(start, end):
        pieces[number] = replace(pieces[number], **values)  # type: ignore[arg-type]
    return replace(cuts, pieces=tuple(pieces))


def _order(cuts: CutList, place: Place) -> tuple[int, int]:
    return cuts.pieces.index(cuts.piece(place.piece)), place.at_ns


def _first_at(parted: CutList, whole: Piece, place: Place, known: Known) -> int:
    """The number of the first piece after a place at which a whole piece was split."""
    at_ns = on_frame(whole, place.at_ns, known.fps)
    number = parted.pieces.index(parted.piece(whole.id))
    while (part := parted.pieces[number]).until_ns <= at_ns:
        number += 1
        if part.until_ns == whole.until_ns:
            break
    return number


def on_frame(piece: Piece, at_ns: int, fps: Fraction) -> int:
    """The place of a frame nearest to a time of a piece, counted from where it begins."""
    frame_ns = NS_PER_S / fps * piece.speed
    on_frame = round(piece.from_ns + round((at_ns - piece.from_ns) / frame_ns) * frame_ns)
    left_ns = piece.until_ns - at_ns
    # Of a piece that is shorter than a frame the end that is nearer counts.
    is_end = left_ns * 2 < frame_ns and left_ns < at_ns - piece.from_ns
    return piece.until_ns if is_end else min(max(piece.from_ns, on_frame), piece.until_ns)


def new_id(cuts: CutList) -> str:
    """An id that no piece has."""
    return next(new_ids(cuts))


def new_ids(cuts: CutList) -> Iterator[str]:
    """Ids that no piece has, one after the other."""
    return _ids("p", (p.id for p in cuts.pieces))


def _ids(start: str, there: Iterable[str]) -> Iterator[str]:
    """Ids that begin like this and that none of these is."""
    numbers = [n for i in there if i.startswith(start) and (n := i[len(start) :]).isdecimal()]
    return (f"{start}{n}" for n in count(max(map(int, numbers), default=0) + 1))


def _with_piece(cuts: CutList, known: Known, piece: Piece, before: str) -> CutList:
    """A piece more, before another one; at the end if there is none. Raises CutError."""
    place = cuts.pieces.index(cuts.piece(before)) if before else len(cuts.pieces)
    made = within_limit(cuts, (*cuts.pieces[:place], piece, *cuts.pieces[place:]))
    return checked(made, known)


def _with_piece_as(cuts: CutList, made: Piece) -> CutList:
    """The piece of an id as it is made to be."""
    return replace(cuts, pieces=tuple(made if p.id == made.id else p for p in cuts.pieces))


def _check_fades(*times_ms: int) -> None:
    if not all(0 <= ms <= MOST_FADE_MS for ms in times_ms):
        raise CutError(f"A fade takes 0 to {MOST_FADE_MS} ms.", "fade_in")


def within_limit(cuts: CutList, pieces: Sequence[Piece]) -> CutList:
    """A list with other pieces. Raises CutError where there are too many."""
    if len(pieces) > MOST_PIECES:
        raise CutError(f"A cut list has at most {MOST_PIECES} pieces. Join some first.", "pieces")
    return replace(cuts, pieces=tuple(pieces))
