"""A cut list for other programs: OpenTimelineIO out and in, edit decision lists out.

A clip is a piece as it is laid, in whole frames of the program; beside the pictures lie their
sounds and the music. What other programs have no word for (what was taken out, exact ns) stands in
metadata under our name, and counts on the way back where the clip is still as it was written.

References
----------
OpenTimelineIO 0.18, https://opentimelineio.readthedocs.io.
"""

from collections.abc import Callable, Mapping
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any

from kettle_core.assembly.cut_changes import tidied
from kettle_core.assembly.cut_list import CutList, Known, Piece, checked
from kettle_core.assembly.laid import Laid, laid
from kettle_core.errors import CutError
from kettle_core.rig.rig import Card
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.assembly.cut_file import cuts_from_dict, cuts_to_dict
from kettle_media.assembly.decision_list import decision_list
from kettle_media.assembly.media import TakeMedia, with_besides
from kettle_media.told import Told

OURS = "vast-kettle"
SUFFIXES = (".otio", ".edl")
MOST_BYTES = 50_000_000
# What is said of the whole in the metadata.
WHOLE = ("cards", "files", "fade_in_ms", "fade_out_ms", "music", "retold")


def write_timeline(
    path: Path, cuts: CutList, fps: Fraction, takes: Mapping[str, TakeMedia], name: str
) -> None:
    """Write a cut list as a timeline, in the form of the file's suffix.

    Raises
    ------
    CutError
        If the form is not known, or a take is not there.
    TakeError
        If the file can't be written.
    """
    suffix = path.suffix.lower()
    if suffix not in SUFFIXES:
        raise CutError(f"Timelines are {' or '.join(SUFFIXES)} files, not “{path.name}”.", "out")
    media = with_besides(cuts, takes)

    def media_of(take: str) -> TakeMedia:
        if take not in media:
            raise CutError(f"The cut list uses the take {take}, which is not there.", "cuts")
        return media[take]

    if suffix == ".edl":
        text = decision_list(cuts, fps, media_of, name)
    else:
        import opentimelineio as otio  # a seventh of a second to import

        text = otio.adapters.write_to_string(_timeline(cuts, fps, media_of, name), "otio_json")
    with Told(path, True, "{} cannot be written"):
        path.write_text(text)


def read_timeline(path: Path, fps: Fraction, takes: Mapping[str, TakeMedia]) -> CutList:
    """The cut list of an OpenTimelineIO file, its first video track.

    Raises
    ------
    CutError
        If it can't be read, or holds what a cut list can't.
    """
    import opentimelineio as otio

    try:
        with path.open("rb") as file:
            text = file.read(MOST_BYTES).decode()
        timeline = otio.adapters.read_from_string(text, "otio_json")
    except Exception as error:
        raise CutError(f"{path.name} is no OpenTimelineIO file: {error!s:.200}", "cuts") from error
    tracks = timeline.video_tracks() if isinstance(timeline, otio.schema.Timeline) else []
    if not tracks:
        raise CutError(f"{path.name} has no video track.", "cuts")
    ours = _ours(timeline)
    whole = cuts_from_dict({name: value for name, value in ours.items() if name in WHOLE})
    known = Known({take: media.length_ns for take, media in takes.items()}, fps)
    takes = with_besides(whole, takes)
    first = cuts_from_dict({"pieces": ours.get("out_first", [])})
    pieces: list[Piece] = list(first.pieces)
    for number, item in enumerate(tracks[0], 1):
        if not isinstance(item, otio.schema.Clip):
            kind = type(item).__name__.lower()
            raise CutError(f"Item {number} is a {kind}, and a cut list has pieces only.", "cuts")
        pieces += _pieces(item, number, fps, takes)
    named = (replace(p, id=f"p{n}") for n, p in enumerate(pieces, 1))
    return checked(tidied(replace(whole, pieces=tuple(named))), known)


def _timeline(cuts: CutList, fps: Fraction, media_of: Callable[[str], TakeMedia], name: str) -> Any:
    import opentimelineio as otio

    timeline = otio.schema.Timeline(name)
    kinds = otio.schema.TrackKind
    seen = otio.schema.Track("program", kind=kinds.Video)
    heard = otio.schema.Track("sound", kind=kinds.Audio)
    timeline.tracks.extend([seen, heard])
    out_first: list[Piece] = []
    clips: list[tuple[Any, Laid, list[Piece]]] = []
    for one in laid(cuts, fps):
        piece = one.piece
        if not one.is_seen:
            (clips[-1][2] if clips else out_first).append(piece)
            continue
        media = media_of(piece.take)
        clips.append((_clip(one, media, cuts.card(piece.take), fps), one, []))
        seen.append(clips[-1][0])
        has_sound = one.is_heard and not cuts.card(piece.take)
        span = _range(Fraction(0), one.end_ns - one.start_ns, fps)
        gap = otio.schema.Gap(source_range=span)
        heard.append(_clip(one, media, None, fps) if has_sound else gap)
    if cuts.music and clips:
        timeline.tracks.append(_music(cuts, media_of, clips[-1][1].end_ns, fps))
    plain = cuts_to_dict(cuts)
    whole = {name: plain[name] for name in WHOLE}
    timeline.metadata[OURS] = {"version": 2, "out_first": _plain(out_first), **whole}
    for clip, one, out_after in clips:
        clip.metadata[OURS] = {
            "piece": _plain([one.piece])[0],
            "out_after": _plain(out_after),
            "written": _written(clip),
            "from_ns": str(one.from_ns),
            "speed": str(one.speed),
        }
    return timeline


def _clip(one: Laid, media: TakeMedia, card: Card | None, fps: Fraction) -> Any:
    """A piece as it is laid: in a track it lasts as long as in the program."""
    import opentimelineio as otio

    clip = otio.schema.Clip(
        name=media.name,
        media_reference=_reference(media, card, fps),
        source_range=_range(one.from_ns, one.end_ns - one.start_ns, fps),
    )
    if one.speed != 1:
        clip.effects.append(otio.schema.LinearTimeWarp(time_scalar=float(one.speed)))
    return clip


def _music(
    cuts: CutList, media_of: Callable[[str], TakeMedia], length_ns: Fraction, fps: Fraction
) -> Any:
    """The track of what is under the whole; a file goes on from its beginning when it has ended."""
    import opentimelineio as otio

    track = otio.schema.Track("music", kind=otio.schema.TrackKind.Audio)
    bed = cuts.music.bed if cuts.music else ""
    span = _range(Fraction(0), length_ns, fps)
    if cuts.file(bed):
        media = media_of(bed)
        there = _reference(media, None, fps)
        track.append(otio.schema.Clip(media.name, there, span))
    else:
        made = otio.schema.GeneratorReference(bed, "music", span, {"bed": bed})
        track.append(otio.schema.Clip(bed, made, span))
    return track


def _written(clip: Any) -> list[float]:
    """What says where a clip lies and how it runs, as other programs may change it."""
    span = clip.trimmed_range()
    scalars = [e.time_scalar for e in clip.effects if hasattr(e, "time_scalar")]
    return [span.start_time.to_seconds(), span.duration.to_seconds(), *scalars]


def _written_before(piece: Piece) -> list[float]:
    """The same of a piece as files of version 1 have it: in exact ns, at the speed asked for."""
    scalars = [] if piece.percent == 100 else [float(piece.speed)]
    return [piece.from_ns / NS_PER_S, float(piece.length_ns) / NS_PER_S, *scalars]


def _reference(media: TakeMedia, card: Card | None, fps: Fraction) -> Any:
    """Where a clip's picture comes from: a take's program, or a card by its words."""
    import opentimelineio as otio

    span = _range(Fraction(0), Fraction(media.length_ns), fps)
    if card:
        return otio.schema.GeneratorReference(media.name, "text", span, {"text": card.text})
    return otio.schema.ExternalReference(media.path, span)


def _pieces(clip: Any, number: int, fps: Fraction, takes: Mapping[str, TakeMedia]) -> list[Piece]:
    """A clip's piece, and what was taken out after it."""
    ours = _ours(clip)
    known = cuts_from_dict({"pieces": [ours["piece"]] if "piece" in ours else []}).pieces
    after = cuts_from_dict({"pieces": ours.get("out_after", [])}).pieces
    take = known[0].take if known else _take_of(clip, takes)
    if take not in takes:
        raise CutError(f"Clip {number}, “{clip.name}”, is of no take of this tutorial.", "cuts")
    start_s, length_s, *scalars = found = _written(clip)
    written = ours.get("written", _written_before(known[0]) if known else [])
    # Seconds of other programs are floats: what is that near is as it was written.
    near_s = float(1 / fps / 100)
    is_there = known and len(written) == len(found)
    if is_there and all(abs(a - b) < near_s for a, b in zip(written, found, strict=True)):
        return [known[0], *after]
    percent = round(100 * scalars[0]) if scalars else 100
    # Who has left the speed alone has left it as it was asked for.
    if known and scalars and written[2:] == scalars:
        percent = known[0].percent
    from_ns = round(start_s * NS_PER_S)
    until_ns = round(from_ns + length_s * NS_PER_S * (scalars[0] if scalars else 1))
    length = takes[take].length_ns
    return [Piece("p", take, max(0, from_ns), min(until_ns, length), percent=percent), *after]


def _take_of(clip: Any, takes: Mapping[str, TakeMedia]) -> str:
    """The take that a clip's file or name is of; "" if none is."""
    target = getattr(clip.media_reference, "target_url", "") or ""
    for take, media in takes.items():
        if target and Path(target).parts[-2:] == Path(media.path).parts[-2:]:
            return take
    return next((take for take, media in takes.items() if media.name == clip.name), "")


def _range(start_ns: Fraction, length_ns: Fraction, fps: Fraction) -> Any:
    import opentimelineio as otio

    values = (float(round(ns * fps / NS_PER_S)) for ns in (start_ns, length_ns))
    return otio.opentime.TimeRange(
        *(otio.opentime.RationalTime(value, float(fps)) for value in values)
    )


def _plain(pieces: list[Piece]) -> Any:
    return cuts_to_dict(CutList(tuple(pieces)))["pieces"]


def _ours(item: Any) -> dict[str, Any]:
    """Our metadata as plain data; nothing where there is none."""
    found = item.metadata.get(OURS)
    return _unwrapped(found) if found is not None else {}


def _unwrapped(value: Any) -> Any:
    """The library's containers as Python's own."""
    if hasattr(value, "items"):
        return {str(k): _unwrapped(v) for k, v in value.items()}
    if not isinstance(value, str | bytes) and hasattr(value, "__iter__"):
        return [_unwrapped(v) for v in value]
    return value
