"""A cut list as a CMX 3600 edit decision list, written as the program is laid.

Times of takes are rounded to the nearest frame; a piece at another speed has a motion event. What
the form has no word for stands in comments: cards, fades, music, what was taken out.

References
----------
CMX 3600 as common editors read it: events, `M2`, `FCM`, comments with `*`. Codes count whole
frames, without dropping any. Below 24 fps they count at twice the rate.
"""

import re
from collections.abc import Callable, Iterator, Mapping
from fractions import Fraction

from kettle_core.assembly.cut_list import CutList
from kettle_core.assembly.laid import Laid, laid
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.assembly.media import TakeMedia

SLOWEST_FPS = 24
REEL_CHARACTERS = 8


def decision_list(
    cuts: CutList, fps: Fraction, media_of: Callable[[str], TakeMedia], name: str
) -> str:
    """The text of a list.

    Parameters
    ----------
    cuts : whose pieces are laid at `fps`
    media_of : a take, card or file by its id. Raises CutError
    name : its title
    """
    times = 1
    while round(fps * times) < SLOWEST_FPS:
        times += 1
    rate = fps * times
    base = round(rate)
    rows = [one for one in laid(cuts, fps) if one.is_seen]
    reels = _reels(cuts, {one.piece.take: media_of(one.piece.take) for one in rows})
    lines = [f"TITLE: {one_line(name)}", "FCM: NON-DROP FRAME"]
    for number, one in enumerate(rows, 1):
        channel = "B" if one.is_heard and not cuts.card(one.piece.take) else "V"
        lines += ["", *_event(number, one, reels[one.piece.take], channel, rate, base)]
        lines += _said_of(one, cuts, media_of(one.piece.take))
        if number == 1:
            # Before the first event some readers take no comments.
            lines += _of_the_whole(cuts, fps, base)
    return "\n".join(lines) + "\n"


def code(frame: int, base: int) -> str:
    """A frame as a time code of so many frames a second, none dropped.

    >>> code(108_030, 30)
    '01:00:01:00'
    """
    seconds, rest = divmod(frame, base)
    return f"{seconds // 3600:02d}:{seconds // 60 % 60:02d}:{seconds % 60:02d}:{rest:02d}"


def one_line(text: str) -> str:
    """A name in one line of printable characters.

    >>> one_line('Fold' + chr(10) + '* "lines"')
    'Fold * "lines"'
    """
    return " ".join("".join(c if c.isprintable() else " " for c in text).split())


def _event(
    number: int, one: Laid, reel: str, channel: str, rate: Fraction, base: int
) -> Iterator[str]:
    first, end = (round(ns * rate / NS_PER_S) for ns in (one.start_ns, one.end_ns))
    source = round(one.from_ns * rate / NS_PER_S)
    until = source + max(1, round((end - first) * one.speed))
    codes = " ".join(code(frame, base) for frame in (source, until, first, end))
    yield f"{number:03d}  {reel:<8} {channel:<5} C        {codes}"
    if one.speed != 1:
        yield f"M2   {reel:<8} {float(one.speed * rate):06.1f}                {code(source, base)}"


def _said_of(one: Laid, cuts: CutList, media: TakeMedia) -> Iterator[str]:
    piece = one.piece
    yield f"* FROM CLIP NAME: {one_line(media.name)}"
    if media.path:
        yield f"* SOURCE FILE: {one_line(media.path)}"
    card = cuts.card(piece.take)
    if card:
        yield f"* CARD: {one_line(card.text)}"
    if one.speed != 1:
        yield f"* SPEED: {float(one.speed):.6g}"
    for words, ms in (("FADE IN", piece.fade_in_ms), ("FADE OUT", piece.fade_out_ms)):
        if ms:
            yield f"* {words}: {ms} MS"


def _of_the_whole(cuts: CutList, fps: Fraction, base: int) -> Iterator[str]:
    if fps != base:
        yield f"* PROGRAM OF {float(fps):.6g} FRAMES A SECOND, CODES COUNT {base}"
    for words, ms in (("FADE IN", cuts.fade_in_ms), ("FADE OUT", cuts.fade_out_ms)):
        if ms:
            yield f"* {words} OF THE WHOLE: {ms} MS"
    if cuts.music:
        file = cuts.file(cuts.music.bed)
        named = one_line(file.name if file else cuts.music.bed)
        yield f"* MUSIC UNDER THE WHOLE: {named}, {cuts.music.gain_db:g} DB"
    gone = sum(piece.out for piece in cuts.pieces)
    if gone:
        yield f"* TAKEN OUT: {gone}"


def _reels(cuts: CutList, media: Mapping[str, TakeMedia]) -> dict[str, str]:
    """A reel for each source: letters of its name and a number; cards come from an auxiliary."""
    found: dict[str, str] = {}
    for number, (take, one) in enumerate(media.items(), 1):
        letters = re.sub(r"[^A-Z0-9]", "", one.name.upper()) or "TAKE"
        reel = f"{letters[: REEL_CHARACTERS - len(str(number))]}{number}"
        found[take] = "AX" if cuts.card(take) else reel
    return found
