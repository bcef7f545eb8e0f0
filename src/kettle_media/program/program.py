"""The program: composes a take's corrected tracks to MP4 (H.264 and AAC)."""

import queue
import threading
from collections.abc import Callable, Collection, Generator, Iterator, Mapping, Sequence
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
from av.error import FFmpegError

from kettle_core.errors import TakeError
from kettle_core.picture.compose import compose_frame
from kettle_core.picture.picture import (
    Picture,
    Plane,
    picture_from_i420,
    picture_to_jpeg,
    scale_picture,
)
from kettle_core.program.change_over import ProgramComposer, Stretch, plan_stretches
from kettle_core.rig.rig import Rig
from kettle_core.scene.layout import Box, even
from kettle_core.scene.scene_plan import plan_scene
from kettle_core.timing.ticks import NS_PER_S, frame_at, frame_count, frame_to_ns
from kettle_media.program.shrinking import Shrinker
from kettle_media.program.take_sound import TakeSound
from kettle_media.rig.stills import masks_of, read_still
from kettle_media.take.align import GiveWay, align_take, go_on
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TakeInfo
from kettle_media.take.master_sound import MASTER_HZ
from kettle_media.take.packets import rewrap
from kettle_media.take.sync_report import TakeSync
from kettle_media.take.track_reading import frame_to_i420, read_pictures
from kettle_media.take.tracks import tag_bt709

Progress = Callable[[int, int], None]

QUEUED_FRAMES = 8


class PictureCursor:
    """Goes forward through a picture track; `at` gives the frame of a number."""

    def __init__(self, path: Path) -> None:
        self._frames = read_pictures(path)
        self._at = -1
        self._picture: Picture | None = None

    def at(self, number: int) -> Picture:
        """Frame `number`, or the last one if the track ends before it."""
        frame = None
        if number <= self._at and self._picture is not None:
            return self._picture
        while self._at < number:
            following = next(self._frames, None)
            if following is None:
                break
            frame = following
            self._at += 1
        if frame is not None:
            self._picture = picture_from_i420(frame_to_i420(frame))
        if self._picture is None:
            raise TakeError("A picture track holds no frame that can be read.")
        return self._picture


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

    render_program(folder, info, sync, target, tell)
    return sync


def write_playable(folder: TakeFolder, info: TakeInfo, give_way: GiveWay = go_on) -> None:
    """Rewrap every track into a file that browsers and players open, without encoding again."""
    for track in info.tracks:
        if track.damaged:
            continue
        target = folder.playable_path(track)
        target.parent.mkdir(exist_ok=True)
        give_way()
        rewrap(folder.track_path(track), target, faststart=track.is_picture)


def write_poster(program: Path, target: Path, width: int = 320) -> None:
    """A small JPEG of the program at a third of its length."""
    with av.open(str(program)) as container:
        stream = container.streams.video[0]
        container.seek(int((stream.duration or 0) // 3), stream=stream)
        frame = next(container.decode(stream))
    picture = picture_from_i420(frame_to_i420(frame))
    height = even(width * picture.height / picture.width)
    small = scale_picture(picture, Box(0, 0, picture.width, picture.height), width, height)
    target.write_bytes(picture_to_jpeg(small, 86))


def render_program(
    folder: TakeFolder,
    info: TakeInfo,
    sync: TakeSync,
    target: Path,
    on_progress: Progress = lambda done, total: None,
) -> int:
    """Compose the take's default scene at the rig's frame size and rate; returns the frame count.

    Parameters
    ----------
    folder, info : the take
    sync : what `align_take` found; tracks it lacks are left out of the scene
    target : the MP4 to write; what was there is replaced only when the new one is whole
    on_progress : called with (frames done, frames in all); what it raises ends the work

    Raises
    ------
    TakeError
        If nothing of the scene was recorded, a track is damaged or the file can't be written.
    """
    rig = info.rig_values
    scene = rig.seen_in(rig.default_scene)
    pictures = read_stills(folder, rig)
    names = {t.name for t in sync.tracks} | pictures.keys()
    scene = replace(
        scene,
        layers=tuple(x for x in scene.layers if x.input_id in names),
        sounds=tuple(x for x in scene.sounds if x.input_id in names),
    )
    if not scene.layers and not scene.sounds:
        raise TakeError(f"Nothing of the scene “{scene.name}” was recorded in {folder.path.name}.")
    duration_ns = info.duration_ns or _recorded_ns(sync)
    total = max(1, frame_count(duration_ns, rig.format.fps))
    part = target.with_name(f".{target.stem}.part.mp4")
    rig = replace(rig, scenes=tuple(scene if s.id == scene.id else s for s in rig.scenes))
    composer = ProgramComposer(rig, read_masks(folder, rig), Shrinker())
    stretches = plan_stretches(rig, (), duration_ns)
    source = _Source(folder, info, sync, {x.input_id for x in scene.layers})
    frames = _composed_frames(composer, stretches, source, pictures, rig.format.fps, total)
    mix = TakeSound(folder, info, sync, scene.sounds)
    try:
        _encode(part, frames, mix, rig.format, total, on_progress)
        part.replace(target)
    except (FFmpegError, OSError) as error:
        raise TakeError(f"{target} cannot be written: {error}.") from error
    finally:
        mix.close()
        frames.close()
        part.unlink(missing_ok=True)
    return total


def _recorded_ns(sync: TakeSync) -> int:
    return int(max(captured[-1] for captured in sync.captured_ns.values()))


def read_stills(folder: TakeFolder, rig: Rig) -> dict[str, Picture]:
    """Pictures and text cards of a take, by their inputs' ids."""
    found = {}
    for item in rig.inputs:
        picture = read_still(folder.stills_path / f"{item.id}.png") if item.is_still else None
        if picture:
            found[item.id] = picture
    return found


def read_masks(folder: TakeFolder, rig: Rig) -> dict[str, Plane]:
    """Pictures that a take's masks use, by their names in the rig's library."""
    return masks_of(rig.scenes, folder.stills_path)


class _Source:
    """The picture tracks of a take, read forward together."""

    def __init__(
        self, folder: TakeFolder, info: TakeInfo, sync: TakeSync, wanted: Collection[str]
    ) -> None:
        self._captured_ns = {}
        self._cursors = {}
        self._half_frame_ns = {}
        for track in info.tracks:
            name = track.name
            if name in wanted and name in sync.captured_ns and track.is_picture:
                self._captured_ns[name] = sync.captured_ns[name]
                self._half_frame_ns[name] = frame_to_ns(1, track.mode.fps) // 2
                self._cursors[name] = PictureCursor(folder.track_path(track))

    def at(self, wanted_ns: int) -> dict[str, Picture]:
        """The picture of every track at a time; times must not go back."""
        found = {}
        for name, cursor in self._cursors.items():
            wanted = np.array([wanted_ns], np.int64)
            number = frame_at(self._captured_ns[name], wanted, self._half_frame_ns[name])
            found[name] = cursor.at(int(number[0]))
        return found


def _composed_frames(
    composer: ProgramComposer,
    stretches: Sequence[Stretch],
    source: _Source,
    stills: Mapping[str, Picture],
    fps: Fraction,
    total: int,
) -> Generator[Plane, None, None]:
    current = 0
    for n in range(total):
        at_ns = frame_to_ns(n, fps)
        while current + 1 < len(stretches) and at_ns >= stretches[current].end_ns:
            current += 1
        yield composer.compose(stretches[current], at_ns, {**stills, **source.at(at_ns)})


def compose_one_frame(folder: TakeFolder, scene_name: str, at_s: float) -> Picture:
    """One frame of a take in any of its rig's scenes, by the scene's name or id.

    Parameters
    ----------
    folder : the take
    scene_name : str, "" for the default scene
    at_s : seconds from the take's start

    Raises
    ------
    TakeError
        If there is no such scene or the time lies outside the take.
    """
    info = folder.read_info()
    rig = info.rig_values
    fits = (s for s in rig.scenes if scene_name in (s.name, s.id))
    scene = next(fits, None) if scene_name else rig.default_scene
    if scene is None:
        names = ", ".join(f"“{s.name}”" for s in rig.scenes)
        raise TakeError(f"The take's rig has no scene “{scene_name}”. It has {names}.")
    without = info.damaged
    sync = align_take(folder, info, without)
    duration_s = (info.duration_ns or _recorded_ns(sync)) / NS_PER_S
    if not 0 <= at_s <= duration_s:
        raise TakeError(
            f"{at_s:g} s lies outside the take, which is {duration_s:.3f} s long. "
            "Give a time within it."
        )
    plan = plan_scene(rig.seen_in(scene), rig.format.frame_size, read_masks(folder, rig))
    source = _Source(folder, info, sync, {x.input_id for x in plan.layers})
    pictures = {**read_stills(folder, rig), **source.at(round(at_s * NS_PER_S))}
    return picture_from_i420(compose_frame(plan, pictures, Shrinker()))


def _encode(
    path: Path,
    frames: Iterator[Plane],
    mix: TakeSound,
    format_: Any,
    total: int,
    on_progress: Progress,
) -> None:
    with av.open(str(path), "w", format="mp4", options={"movflags": "+faststart"}) as container:
        video = container.add_stream("libx264", rate=format_.fps)
        video.width, video.height = format_.frame_width, format_.frame_height
        video.pix_fmt = "yuv420p"
        video.options = {"preset": "veryfast", "crf": "19", "g": str(round(2 * format_.fps))}
        video.codec_context.time_base = 1 / format_.fps
        tag_bt709(video.codec_context)
        audio = container.add_stream("aac", rate=MASTER_HZ, layout="stereo")
        audio.bit_rate = format_.sound_kbps * 1000
        container.start_encoding()
        sent = written = 0
        with _Ahead(frames) as ready:
            for n, buffer in enumerate(ready):
                frame = av.VideoFrame.from_numpy_buffer(buffer, format="yuv420p")
                frame.pts, frame.time_base = n, 1 / format_.fps
                container.mux(video.encode(frame))
                until = round((n + 1) * MASTER_HZ / format_.fps)
                written += _encode_sound(container, audio, mix.read(until - sent), written)
                sent = until
                on_progress(n + 1, total)
        _encode_sound(container, audio, mix.flush(), written)
        container.mux(video.encode(None))
        container.mux(audio.encode(None))


def _encode_sound(container: Any, audio: Any, sound: np.ndarray, at: int) -> int:
    if sound.shape[1]:
        frame = av.AudioFrame.from_ndarray(
            np.ascontiguousarray(sound), format="fltp", layout="stereo"
        )
        frame.sample_rate, frame.pts, frame.time_base = MASTER_HZ, at, Fraction(1, MASTER_HZ)
        container.mux(audio.encode(frame))
    return int(sound.shape[1])


class _Ahead:
    """Runs an iterator a few items ahead in a thread, so that composing and encoding overlap."""

    def __init__(self, items: Iterator[Plane]) -> None:
        self._items = items
        self._queue: queue.Queue[Any] = queue.Queue(QUEUED_FRAMES)
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, name="compose", daemon=True)

    def __enter__(self) -> Iterator[Plane]:
        self._thread.start()
        return self._results()

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        while self._thread.is_alive():
            try:
                self._queue.get(timeout=0.05)
            except queue.Empty:
                continue
        self._thread.join()

    def _put(self, kind: str, value: object) -> bool:
        while not self._stop.is_set():
            try:
                self._queue.put((kind, value), timeout=0.1)
                return True
            except queue.Full:
                continue
        return False

    def _run(self) -> None:
        try:
            for item in self._items:
                if not self._put("item", item):
                    return
            self._put("end", None)
        except Exception as error:
            self._put("error", error)

    def _results(self) -> Iterator[Plane]:
        while True:
            kind, value = self._queue.get()
            if kind == "end":
                return
            if kind == "error":
                raise value
            yield value
