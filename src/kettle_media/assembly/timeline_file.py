"""A cut list for other programs: OpenTimelineIO out and in, CMX 3600 edit decision lists out.

A clip is a piece, in time of its take's program. What other programs have no word for (what was
taken out, exact ns) stands in metadata under our name, and counts on the way back where the clip
is still as it was written.

References
----------
OpenTimelineIO 0.18, https://opentimelineio.readthedocs.io; CMX 3600 by otio-cmx3600-adapter.
"""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

from kettle_core.assembly.cut_changes import tidied
from kettle_core.assembly.cut_list import MOST_CARD_NS, CutList, Known, Piece, checked
from kettle_core.errors import CutError
from kettle_core.rig.rig import Card
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.assembly.added_file import kept_name
from kettle_media.assembly.cut_file import cuts_from_dict, cuts_to_dict
from kettle_media.told import Told

OURS = "vast-kettle"
SUFFIXES = {".otio": "otio_json", ".edl": "cmx_3600"}
MOST_BYTES = 50_000_000
# What is said of the whole in the metadata.
WHOLE = ("cards", "files", "fade_in_ms", "fade_out_ms", "music", "retold")


@dataclass(frozen=True)
class TakeMedia:
    """A take as another program finds it: its name, its program's file, its length in ns."""

    name: str
    path: str
    length_ns: int


def write_timeline(
    path: Path, cuts: CutList, fps: Fraction, takes: Mapping[str, TakeMedia], name: str
) -> None:
    """Write a cut list as a timeline, in the form of the file's suffix.

    Raises
    ------
    CutError
        If the form is not known, or has no such frame rate.
    TakeError
        If the file can't be written.
    """
    import opentimelineio as otio  # a seventh of a second to import

    adapter = SUFFIXES.get(path.suffix.lower())
    if adapter is None:
        raise CutError(f"Timelines are {' or '.join(SUFFIXES)} files, not “{path.name}”.", "out")
    timeline = _timeline(cuts, fps, takes, name)
    more = {"rate": float(fps)} if adapter == "cmx_3600" else {}
    try:
        text = otio.adapters.write_to_string(timeline, adapter, **more)
    except Exception as error:  # adapters raise what they like
        raise CutError(f"{path.name} can't be made of this cut list: {error}", "out") from error
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
    takes = {**takes, **_besides(whole)}
    first = cuts_from_dict({"pieces": ours.get("out_first", [])})
    pieces: list[Piece] = list(first.pieces)
    for number, item in enumerate(tracks[0], 1):
        if not isinstance(item, otio.schema.Clip):
            kind = type(item).__name__.lower()
            raise CutError(f"Item {number} is a {kind}, and a cut list has pieces only.", "cuts")
        pieces += _pieces(item, number, fps, takes)
    named = (replace(p, id=f"p{n}") for n, p in enumerate(pieces, 1))
    return checked(tidied(replace(whole, pieces=tuple(named))), known)


def _besides(cuts: CutList) -> dict[str, TakeMedia]:
    """Cards and files as if they were takes, by their ids."""
    cards = {c.id: TakeMedia(c.card.text.partition("\n")[0], "", MOST_CARD_NS) for c in cuts.cards}
    files = {f.id: TakeMedia(f.name, f"files/{kept_name(f)}", f.length_ns) for f in cuts.files}
    return cards | files


def _timeline(cuts: CutList, fps: Fraction, takes: Mapping[str, TakeMedia], name: str) -> Any:
    import opentimelineio as otio

    timeline = otio.schema.Timeline(name)
    track = otio.schema.Track("program", kind=otio.schema.TrackKind.Video)
    timeline.tracks.append(track)
    out_first: list[Piece] = []
    clips: list[tuple[Any, Piece, list[Piece]]] = []
    takes = {**takes, **_besides(cuts)}
    for piece in cuts.pieces:
        if piece.out:
            (clips[-1][2] if clips else out_first).append(piece)
            continue
        media = takes.get(piece.take)
        if media is None:
            raise CutError(f"The cut list uses the take {piece.take}, which is not there.", "cuts")
        clip = otio.schema.Clip(
            name=media.name,
            media_reference=_reference(media, cuts.card(piece.take), fps),
            source_range=_range(Fraction(piece.from_ns), piece.length_ns, fps),
        )
        if piece.percent != 100:
            clip.effects.append(otio.schema.LinearTimeWarp(time_scalar=float(piece.speed)))
        track.append(clip)
        clips.append((clip, piece, []))
    plain = cuts_to_dict(cuts)
    whole = {name: plain[name] for name in WHOLE}
    timeline.metadata[OURS] = {"version": 1, "out_first": _plain(out_first), **whole}
    for clip, piece, out_after in clips:
        clip.metadata[OURS] = {"piece": _plain([piece])[0], "out_after": _plain(out_after)}
    return timeline


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
    scalars = [e.time_scalar for e in clip.effects if hasattr(e, "time_scalar")]
    percent = round(100 * scalars[0]) if scalars else 100
    span = clip.trimmed_range()
    from_ns = round(span.start_time.to_seconds() * NS_PER_S)
    length_ns = span.duration.to_seconds() * NS_PER_S * percent / 100
    until_ns = round(from_ns + length_ns)
    if known:
        was = known[0]
        # Seconds of other programs are floats: what is that near is as it was written.
        near_ns = NS_PER_S / fps / 100
        same = abs(was.from_ns - from_ns) < near_ns and abs(was.until_ns - until_ns) < near_ns
        if same and was.percent == percent:
            return [was, *after]
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

    frames = [float(ns * fps / NS_PER_S) for ns in (start_ns, length_ns)]
    # Whole frames as such: a float of 29.97 leaves some behind the comma.
    whole = [float(round(f)) if abs(f - round(f)) < 1e-3 else f for f in frames]
    return otio.opentime.TimeRange(
        *(otio.opentime.RationalTime(value, float(fps)) for value in whole)
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
