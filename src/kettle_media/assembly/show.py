"""A cut list with the takes it is made of: what is played and composed of an assembly."""

from collections.abc import Iterator, Mapping
from contextlib import ExitStack
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

from kettle_core.assembly.chapters import Steps, chapters
from kettle_core.assembly.cut_list import CutList
from kettle_core.assembly.laid import check_is_seen, laid, time_map
from kettle_core.errors import CutError
from kettle_core.picture.picture import Plane
from kettle_core.program.plan import Dip, Script, cropped, dipped, make_plan
from kettle_core.program.replay import Replay, replay
from kettle_core.rig.format import Format
from kettle_core.scene.layout import Box
from kettle_core.timing.ticks import NS_PER_S
from kettle_core.timing.time_map import Source, TimeMap, to_ns
from kettle_media.assembly.card_source import CardSource
from kettle_media.assembly.file_source import FileMusic, FileSource
from kettle_media.assembly.joins import Voice, quiet_joins
from kettle_media.assembly.music_source import MusicSource, music_line
from kettle_media.assembly.open_takes import OpenTakes, open_take
from kettle_media.program.show import Show, Shown
from kettle_media.take.afterwards import cues_now
from kettle_media.take.align import GiveWay, go_on
from kettle_media.take.folder import TakeFolder

# Nothing lies there.
NO_FILES = Path("/nonexistent")


def show_of_assembly(
    takes: Mapping[str, TakeFolder],
    cuts: CutList,
    format_: Format,
    at_once: bool = False,
    give_way: GiveWay = go_on,
    files: Path = NO_FILES,
    part: Box | None = None,
    opened: OpenTakes | None = None,
) -> Show:
    """The program of a cut list.

    Parameters
    ----------
    takes : folders by their takes' UUIDs
    files : the folder in which added files lie
    part : of the frame that is shown; cards and files fill it
    cuts : whose pieces lie within their takes
    format_ : the program's
    at_once, give_way : see `TakeSources`
    opened : who keeps the takes open, at once; else they are opened for this show alone

    Raises
    ------
    CutError
        If a take is missing, or nothing is left that takes time.
    TakeError
        If a take can't be read.
    """
    check_is_seen(cuts, format_.fps)
    used = list(dict.fromkeys(piece.take for piece in cuts.shown))
    scripts, in_record_time = {}, {}
    masks: dict[str, Plane] = {}
    sources: dict[Source, Shown] = {}
    steps: dict[str, Steps] = {}
    voices: dict[Source, Voice] = {}
    filled = (part.width, part.height) if part else format_.frame_size
    with ExitStack() as stack:
        for take_id in used:
            card = cuts.card(take_id)
            if card:
                sources[Source("card", take_id)] = CardSource(card, filled)
                continue
            file = cuts.file(take_id)
            if file:
                of_file = FileSource(file, files, filled)
                stack.callback(of_file.close)
                sources[Source("file", take_id)] = of_file
                continue
            if take_id not in takes:
                raise CutError(f"The cut list uses the take {take_id}, which is not there.", "cuts")
            folder = takes[take_id]
            one = opened.take(folder) if opened else open_take(folder, give_way, at_once)
            seen, voice, take = one.sources, one.voice, Source("take", take_id)
            if not opened:
                stack.callback(seen.close)
            cues = cuts.retold_of(take_id).now(cues_now(folder)[0])
            said = replay(seen.rig, cues)
            sources[take], scripts[take] = seen, Script(seen.rig, said)
            # The last piece may be rounded up to a frame that the take has only a part of.
            frame_ns = round(NS_PER_S / format_.fps)
            in_record_time[take] = said.take_time(take, seen.length_ns + frame_ns)
            masks |= seen.masks()
            voices |= {take: voice} if voice else {}
            steps[take_id] = steps_of(said, in_record_time[take])
        whole = time_map(cuts, format_.fps).through(in_record_time)
        plan = make_plan(scripts, whole, format_, quiet_joins(whole.pieces, voices))
        plan = dipped(cropped(plan, part) if part else plan, _dips(cuts, format_.fps))
        ends = (round(ms * format_.fps / 1000) for ms in (cuts.fade_in_ms, cuts.fade_out_ms))
        fade_in, fade_out = (min(frames, plan.frames // 2) for frames in ends)
        plan = replace(plan, fade_in=fade_in, fade_out=fade_out)
        if cuts.music:
            bed, file = Source("file", f"music:{cuts.music.bed}"), cuts.file(cuts.music.bed)
            sources[bed] = FileMusic(file, files) if file else MusicSource(cuts.music.bed)
            plan = replace(plan, lines=(*plan.lines, music_line(cuts.music, bed, plan)))
        stack.pop_all()
    named = chapters(cuts, format_.fps, steps, opening_of(cuts))
    titles = tuple((c.at_ns, c.title) for c in named)
    return Show(plan, sources, masks, titles, frozenset(scripts if opened else ()))


def _dips(cuts: CutList, fps: Fraction) -> Iterator[Dip]:
    """Where pieces fade by themselves; each fade takes half of its piece at most."""
    for one in laid(cuts, fps):
        if one.is_seen:
            first, end = (round(ns * fps / NS_PER_S) for ns in (one.start_ns, one.end_ns))
            times = one.piece.fade_in_ms, one.piece.fade_out_ms
            fades = (min(round(ms * fps / 1000), (end - first) // 2) for ms in times)
            yield Dip(first, end, *fades)


def steps_of(said: Replay, take_time: TimeMap) -> Steps:
    """When each step of a take begins, in take time, and what it is called."""
    take = take_time.pieces[0].source
    return [(to_ns(take_time.program_time_from(take, s.at_ns)), s.step) for s in said.steps]


def opening_of(cuts: CutList) -> str:
    """What comes before all steps: what the first card says, if that is what comes."""
    card = cuts.card(cuts.shown[0].take) if cuts.shown else None
    return card.text.partition("\n")[0] if card else "Opening"
