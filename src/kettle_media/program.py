"""The program: composes a take's corrected tracks to MP4 (H.264 and AAC)."""

import json
import queue
import threading
from collections.abc import Callable, Generator, Iterator, Mapping
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
from av.error import FFmpegError

from kettle_core.compose import ScenePlan, compose_frame, frame_at, plan_scene
from kettle_core.errors import TakeError
from kettle_core.hearing import apply_gain
from kettle_core.layout import Box, even
from kettle_core.picture import (
    Picture,
    Plane,
    picture_from_i420,
    picture_to_jpeg,
    scale_picture,
)
from kettle_core.rig import Rig, Scene, Tone
from kettle_core.sound import PeakLimiter, mix_sounds
from kettle_core.timing import frame_count, frame_to_ns
from kettle_media.align import TakeSync, align_take, master_sound
from kettle_media.master_sound import MASTER_HZ, MasterSound
from kettle_media.stills import read_still
from kettle_media.take_folder import (
    TakeFolder,
    TakeInfo,
    damaged_tracks,
    is_picture,
    take_rig,
    track_mode,
)
from kettle_media.tracks import frame_to_i420, read_pictures, rewrap, tag_bt709

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
) -> TakeSync:
    """Align a take's tracks and compose its program; what was measured is kept in sync.json.

    Raises
    ------
    TakeError
        If a track is missing or damaged, or the program can't be written.
    """
    info = folder.read_info()
    unknown = without - {t["name"] for t in info.tracks}
    if unknown:
        raise TakeError(f"{folder.path.name} has no track {', '.join(sorted(unknown))}.")
    without |= damaged_tracks(info)
    if len(without) == len(info.tracks):
        raise TakeError(f"No track of {folder.path.name} is left that could be composed.")
    for track in info.tracks:
        if track["name"] not in without:
            folder.check_track(track)
    sync = align_take(folder, info, without)
    report = [vars(track) for track in sync.tracks]
    (folder.path / "sync.json").write_text(json.dumps(report, indent=1))
    render_program(folder, info, sync, target, on_progress)
    return sync


def write_playable(folder: TakeFolder, info: TakeInfo) -> None:
    """Rewrap every track into a file that browsers and players open, without encoding again."""
    for track in info.tracks:
        if track["name"] in damaged_tracks(info):
            continue
        target = folder.playable_path(track)
        target.parent.mkdir(exist_ok=True)
        rewrap(folder.track_path(track), target, faststart=is_picture(track))


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
    """Compose the take's first scene at the rig's frame size and rate; returns the frame count.

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
    rig = take_rig(info)
    scene = rig.seen_in(rig.scenes[0])
    stills = _read_stills(folder, rig, scene)
    names = {t.name for t in sync.tracks} | stills.keys()
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
    frames = _composed_frames(folder, info, sync, plan_scene(scene, rig.format), stills, total)
    mix = _Mix(folder, info, sync, scene)
    try:
        _encode(part, frames, mix, rig.format, total, on_progress)
        part.replace(target)
    except (FFmpegError, OSError) as error:
        raise TakeError(f"{target} cannot be written: {error}.") from error
    finally:
        frames.close()
        part.unlink(missing_ok=True)
    return total


def _recorded_ns(sync: TakeSync) -> int:
    return int(max(captured[-1] for captured in sync.captured_ns.values()))


def _read_stills(folder: TakeFolder, rig: Rig, scene: Scene) -> dict[str, Picture]:
    found = {}
    for layer in scene.layers:
        name = layer.input_id
        picture = (
            read_still(folder.stills_path / f"{name}.png") if rig.input(name).is_still else None
        )
        if picture:
            found[name] = picture
    return found


def _composed_frames(
    folder: TakeFolder,
    info: TakeInfo,
    sync: TakeSync,
    plan: ScenePlan,
    stills: Mapping[str, Picture],
    total: int,
) -> Generator[Plane, None, None]:
    fps = take_rig(info).format.fps
    wanted_ns = np.array([frame_to_ns(n, fps) for n in range(total)], dtype=np.int64)
    cursors, shown = {}, {}
    for track in info.tracks:
        name = track["name"]
        if any(layer.input_id == name for layer in plan.layers):
            half_frame_ns = frame_to_ns(1, track_mode(track).fps) // 2
            shown[name] = frame_at(sync.captured_ns[name], wanted_ns, half_frame_ns)
            cursors[name] = PictureCursor(folder.track_path(track))
    before: tuple[int, ...] | None = None
    frame = None
    for n in range(total):
        numbers = tuple(int(shown[name][n]) for name in cursors)
        if frame is None or numbers != before:
            pictures = {name: c.at(int(shown[name][n])) for name, c in cursors.items()}
            frame = compose_frame(plan, {**stills, **pictures})
        before = numbers
        yield frame


class _Mix:
    """The mix of a scene, limited, read in order."""

    def __init__(self, folder: TakeFolder, info: TakeInfo, sync: TakeSync, scene: Scene) -> None:
        gains = {s.input_id: s.gain_db for s in scene.sounds}
        rig = take_rig(info)
        self._sounds: list[tuple[MasterSound, Tone, float]] = []
        for track in info.tracks:
            name = track["name"]
            if name in gains:
                tone = rig.input(name).tone
                captured_ns = sync.captured_ns[name][0] + tone.delay_ms * 1e6
                sound = master_sound(folder, track, sync.of(name).drift_ppm, captured_ns)
                self._sounds.append((sound, tone, gains[name]))
        self._limiter = PeakLimiter()

    def read(self, samples: int) -> np.ndarray:
        sounds = [
            (apply_gain(sound.read(samples), tone.gain_db, tone.mono), gain_db)
            for sound, tone, gain_db in self._sounds
        ]
        return self._limiter.process(mix_sounds(sounds, samples))

    def flush(self) -> np.ndarray:
        return self._limiter.flush()


def _encode(
    path: Path, frames: Iterator[Plane], mix: _Mix, format_: Any, total: int, on_progress: Progress
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
