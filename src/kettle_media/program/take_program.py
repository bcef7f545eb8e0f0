"""A take's program and stills: its plan, and what is made of it."""

from contextlib import closing
from fractions import Fraction
from pathlib import Path

from kettle_core.errors import TakeError
from kettle_core.picture.picture import Picture, picture_from_i420
from kettle_core.program.plan import Plan, Script, make_plan
from kettle_core.program.replay import Replay, Resolved
from kettle_core.program.stretch import Stretch
from kettle_core.rig.format import Format
from kettle_core.rig.rig import Rig
from kettle_core.timing.ticks import NS_PER_S
from kettle_core.timing.time_map import Source, TimeMap
from kettle_media.durable import put_in_place
from kettle_media.program.cells import read_composed, write_composed
from kettle_media.program.program_file import Progress
from kettle_media.program.program_sound import limited_for
from kettle_media.program.renderer import Renderer
from kettle_media.program.show import Show
from kettle_media.program.sources import TakeSources
from kettle_media.program.write_show import write_show
from kettle_media.take.afterwards import follow_cues
from kettle_media.take.align import GiveWay, align_take, go_on
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TakeInfo
from kettle_media.take.sync_report import TakeSync
from kettle_media.told import Told


def plan_take(
    rig: Rig, said: Replay, take_id: str, length_ns: int, format_: Format | None = None
) -> tuple[Plan, TimeMap]:
    """The plan of a whole take with its pauses closed, and the map to its record time.

    Parameters
    ----------
    rig : the take's, with what was not recorded off
    said : what its cues say
    take_id : its UUID
    length_ns : of the take in record time
    format_ : the program's, if it is not the rig's
    """
    take = Source("take", take_id)
    time_map = said.take_time(take, length_ns)
    return make_plan({take: Script(rig, said)}, time_map, format_ or rig.format), time_map


def compose_take(
    folder: TakeFolder,
    target: Path,
    on_progress: Progress = lambda done, total: None,
    without: frozenset[str] = frozenset(),
    give_way: GiveWay = go_on,
) -> TakeSync:
    """Align a take's tracks, as sync.json says or as is measured now, and compose its program.

    Raises
    ------
    TakeError
        If a track is missing or damaged, or the program can't be written.
    """
    info = folder.read_info()
    unknown = without - {t.name for t in info.tracks}
    if unknown:
        raise TakeError(f"{folder.path.name} has no track {', '.join(sorted(unknown))}.")
    without |= info.damaged
    if len(without) == len(info.tracks):
        raise TakeError(f"No track of {folder.path.name} is left that could be composed.")
    for track in info.tracks:
        if track.name not in without:
            folder.check_track(track)
    sync = align_take(folder, info, without, give_way=give_way)

    def tell(done: int, total: int) -> None:
        give_way()
        on_progress(done, total)

    render_program(folder, info, sync, target, tell, give_way)
    return sync


def render_program(
    folder: TakeFolder,
    info: TakeInfo,
    sync: TakeSync,
    target: Path,
    on_progress: Progress = lambda done, total: None,
    give_way: GiveWay = go_on,
) -> int:
    """Compose a take as its cues say, at the rig's frame size and rate; gives the frame count.

    Parameters
    ----------
    folder, info : the take
    sync : what `align_take` found; tracks it lacks are left out
    target : the MP4 to write; what was there is replaced only when the new one is whole. What
        the take's own program shows already is taken over from it.
    on_progress : called with (frames done, frames in all); what it raises ends the work
    give_way : called often while sounds are cleaned

    Raises
    ------
    TakeError
        If nothing of the take was recorded, a track is damaged or the file can't be written.
    """
    part = target.with_name(f".{target.stem}.part.mp4")
    with (
        folder.composing(give_way),
        closing(TakeSources(folder, info, sync, give_way)) as sources,
    ):
        said = follow_cues(folder, sources.rig)
        plan, _ = plan_take(sources.rig, said, info.id, sources.length_ns)
        if not any(s.scene.layers for s in plan.stretches) and not plan.lines:
            name = sources.rig.default_scene.name
            raise TakeError(f"Nothing of the scene “{name}” was recorded in {folder.path.name}.")
        take, written = Source("take", info.id), sources.rig.format.program
        show = Show(limited_for(plan, written), {take: sources}, sources.masks())
        known = read_composed(folder.program_path)
        try:
            made = write_show(show, part, written, known, on_progress, folder.stems_path)
            composed = made.composed(part, target)
            with Told(target, True, "{} cannot be written"):
                put_in_place(part, target)
                if target == folder.program_path:
                    write_composed(composed)
        finally:
            part.unlink(missing_ok=True)
    return plan.frames


def compose_one_frame(folder: TakeFolder, scene_name: str, at_s: float) -> Picture:
    """One frame of a take in any of its rig's scenes, by the scene's name or id.

    Parameters
    ----------
    folder : the take
    scene_name : str, "" for what the program shows
    at_s : seconds from the take's start, pauses included

    Raises
    ------
    TakeError
        If there is no such scene or the time lies outside the take.
    """
    info = folder.read_info()
    sync = align_take(folder, info, info.damaged)
    with closing(TakeSources(folder, info, sync)) as sources:
        rig = sources.rig
        fits = (s for s in rig.scenes if scene_name in (s.name, s.id))
        scene = next(fits, None) if scene_name else rig.default_scene
        if scene is None:
            names = ", ".join(f"“{s.name}”" for s in rig.scenes)
            raise TakeError(f"The take's rig has no scene “{scene_name}”. It has {names}.")
        length_s = sources.length_ns / NS_PER_S
        if not 0 <= at_s <= length_s:
            raise TakeError(
                f"{at_s:g} s lies outside the take, which is {length_s:.3f} s long. "
                "Give a time within it."
            )
        shown = Resolved.of(rig, scene)
        if not scene_name:
            moments = follow_cues(folder, rig).moments
            shown = [m for m in moments if m.at_ns <= at_s * NS_PER_S][-1].state.resolved()
        take = Source("take", info.id)
        at_ns = round(at_s * NS_PER_S)
        stretch = Stretch(0, 1, take, Fraction(at_ns), Fraction(1), shown)
        picture = (rig.format.frame_size, rig.format.fps, (stretch,))
        plan = Plan(*picture, (), scaling=rig.format.scaling)
        return picture_from_i420(Renderer(plan, {take: sources}, sources.masks()).frame(0))
