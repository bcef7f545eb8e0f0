"""bench program: composing beside the ffmpeg program, any place of a long track, plans, sounds."""

import os
import resource
import subprocess
import tempfile
import time
from argparse import Namespace
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from contextlib import closing
from dataclasses import replace
from fractions import Fraction
from multiprocessing import get_context
from pathlib import Path

import numpy as np

from kettle_cli.installing import need_debian
from kettle_cli.usage import rss_bytes
from kettle_core.program.cues import ToScene
from kettle_core.program.replay import replay
from kettle_core.rig.changes import with_format
from kettle_core.rig.format import Format
from kettle_core.sound.tone import Tone
from kettle_core.timing.ticks import NS_PER_S
from kettle_core.timing.time_map import Source
from kettle_engine.process import work_frame_by_frame
from kettle_engine.recording.take import record_take
from kettle_media.program.cleaned import CleanedSound
from kettle_media.program.line_sounds import LineSounds
from kettle_media.program.mix import ProgramMix
from kettle_media.program.sources import TakeSources
from kettle_media.program.take_program import plan_take, render_program
from kettle_media.rig_document import rig_to_dict
from kettle_media.sound.suppressors import voice_keeper
from kettle_media.take.align import align_take, go_on, open_sound
from kettle_media.take.folder import TakeFolder
from kettle_media.take.packets import repeat_packets
from kettle_media.take.picture_track import PictureTrack
from kettle_media.take.sound_track import MASTER_HZ
from kettle_media.take.sync_report import TakeSync
from kettle_media.take.times import read_times, write_times
from kettle_studio.demo import demo_rig
from kettle_studio.driver import Studio

FFMPEG = Path("/usr/bin/ffmpeg")
SECONDS = 30
HOUR_S = 3600
JUMPS = 200


def need_ffmpeg() -> None:
    """Have the ffmpeg program, which is only compared with."""
    need_debian("ffmpeg", FFMPEG)


def bench_program(options: Namespace) -> int:
    """Measure programs: a take's, a long one's places, memory, sounds; plans."""
    need_ffmpeg()
    work_frame_by_frame()
    _plans()
    with tempfile.TemporaryDirectory() as name:
        folder = TakeFolder(Path(name) / "take")
        record_take(Studio(), demo_rig(), folder.path, SECONDS * NS_PER_S)
        sync = align_take(folder, folder.read_info())
        _beside_ffmpeg(folder, sync)
        _sounds(folder, sync)
        _cleaned(folder, sync)
        _places(folder, Path(name) / "long", round(10 * 60 / SECONDS), "10 minutes")
        lengths_min = (10, round(options.minutes)) if options.minutes > 10 else (1, 10)
        _memory(folder, Path(name), lengths_min)
    return 0


def _plans() -> None:
    rig = demo_rig()
    scenes = [s.id for s in rig.scenes]
    cues = [ToScene(n * 21 * NS_PER_S, scenes[n % 3]) for n in range(500)]
    began = time.perf_counter()
    plan, _ = plan_take(rig, replay(rig, cues), "take", 3 * HOUR_S * NS_PER_S)
    spent_s = time.perf_counter() - began
    print(f"plan of 3 h with 500 cues: {spent_s:.3f} s, {len(plan.stretches)} stretches")


def _beside_ffmpeg(folder: TakeFolder, sync: TakeSync) -> None:
    """A take's program beside the ffmpeg program."""
    info, target = folder.read_info(), folder.path / "bench.mp4"

    def compose() -> None:
        target.unlink(missing_ok=True)
        render_program(folder, info, sync, target)

    in_turns_with_ffmpeg(folder, f"program of {SECONDS} s", compose)


def in_turns_with_ffmpeg(folder: TakeFolder, words: str, ours_is: Callable[[], object]) -> float:
    """The same picture and settings by both, in turns; gives the ratio of the smallest of three."""
    ours, theirs = [], []
    command = _ffmpeg(folder, folder.path / "ffmpeg.mp4")
    for _ in range(3):
        ours.append(_spent(ours_is))
        theirs.append(_spent(lambda: subprocess.run(command, check=True, capture_output=True)))
    (wall, cpu), (wall_2, cpu_2) = (tuple(map(min, zip(*x, strict=True))) for x in (ours, theirs))
    print(
        f"{words}: {wall:.1f} s, {cpu:.1f} s CPU; ffmpeg {wall_2:.1f} s, "
        f"{cpu_2:.1f} s CPU; ratio {wall / wall_2:.2f}, CPU {cpu / cpu_2:.2f}"
    )
    return float(wall / wall_2)


def _ffmpeg(folder: TakeFolder, target: Path) -> list[str]:
    """The demo's first scene as a filter graph: the display, the round webcam over it, the mix."""
    info = folder.read_info()
    rig = info.rig_values
    display, webcam = rig.default_scene.layers
    box, crop = webcam.box, webcam.crop
    ellipse = "hypot((X-W/2+.5)/W\\,(Y-H/2+.5)/H)"
    mask = folder.path / "mask.png"
    make = ["-f", "lavfi", "-i", f"nullsrc=s={box.width}x{box.height},format=gray,"
            f"geq=lum='if(lt({ellipse}\\,.5)\\,255\\,0)'", "-frames:v", "1", str(mask)]  # fmt: skip
    subprocess.run([FFMPEG, "-y", "-v", "error", *make], check=True)
    place = display.box
    picture = (
        f"[0:v]fps=30,scale={place.width}:{place.height}:flags=area,"
        f"pad=1920:1080:{place.left}:{place.top}[d];"
        f"[1:v]fps=30,crop={crop.width}:{crop.height}:{crop.left}:{crop.top},"
        f"scale={box.width}:{box.height}:flags=area[w];"
        f"[w][4:v]alphamerge[m];[d][m]overlay={box.left}:{box.top}:format=yuv420[v];"
        "[2:a]pan=stereo|c0=c0|c1=c0[x];[3:a]volume=-12dB[y];"
        "[x][y]amix=normalize=0,alimiter=limit=0.89[a]"
    )
    names = ("display-1", "webcam-1", "headset", "system")
    inputs = [part for n in names for part in ("-i", str(folder.track_path(info.track(n))))]
    return [
        str(FFMPEG), "-y", "-v", "error", *inputs, "-loop", "1", "-i", str(mask),
        "-filter_complex", picture, "-map", "[v]", "-map", "[a]", "-t", str(SECONDS),
        "-c:v", "libx264", "-preset", "veryfast", "-crf", "19", "-g", "60", "-pix_fmt", "yuv420p",
        "-c:a", "aac", "-b:a", "192k", "-movflags", "+faststart", str(target),
    ]  # fmt: skip


def _spent(work: Callable[[], object]) -> tuple[float, float]:
    """Wall time and CPU in s, children counted."""

    def cpu_s() -> float:
        usages = (resource.getrusage(w) for w in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))
        return sum(u.ru_utime + u.ru_stime for u in usages)

    began, spent = time.perf_counter(), cpu_s()
    work()
    return time.perf_counter() - began, cpu_s() - spent


def _sounds(folder: TakeFolder, sync: TakeSync) -> None:
    """The mix of all sounds without chains, as an hour would take."""
    info = folder.read_info()
    with closing(TakeSources(folder, info, sync)) as sources:
        plan, _ = plan_take(sources.rig, replay(sources.rig, ()), info.id, sources.length_ns)
        sounds = LineSounds({Source("take", info.id): sources})
        mix = ProgramMix(plan, sounds.read)
        wall, cpu = _spent(lambda: [mix.read(24_000) for _ in range(plan.samples // 24_000)])
    hour = HOUR_S / SECONDS
    print(f"sound of an hour, ducked and limited: {wall * hour:.0f} s, {cpu * hour:.0f} s CPU")


def _cleaned(folder: TakeFolder, sync: TakeSync) -> None:
    """A microphone through the thorough suppression into its file, beside the engine alone."""
    track, samples = folder.read_info().track("headset"), SECONDS * MASTER_HZ
    tone = Tone(suppression=100)
    sound, raw = open_sound(folder, track, sync)
    heard = sound.read(0, samples)[0]
    raw.close()

    def alone() -> None:
        engine = voice_keeper("thorough")
        for at in range(0, samples, MASTER_HZ):
            engine.process(heard[at : at + MASTER_HZ])

    def through() -> None:
        _, opened = CleanedSound(folder, track, sync, tone, samples).made(go_on)
        opened.close()

    (_, engine_s), (_, ours_s) = _spent(alone), _spent(through)
    print(f"a microphone cleaned: {ours_s / engine_s:.2f} × the CPU of its engine alone")


def _places(folder: TakeFolder, target: Path, times: int, words: str) -> None:
    """How long any place of a long take needs, opened and warm."""
    long = repeated(folder, target, times)
    info = long.read_info()
    sync = align_take(long, info)
    for name in ("display-1", "webcam-1"):
        began = time.perf_counter()
        opened = PictureTrack(long, info.track(name), sync)
        first_s = time.perf_counter() - began
        found = []
        with closing(opened):
            for at_ns in np.random.default_rng(5).uniform(0, info.duration_ns or 0, JUMPS):
                began = time.perf_counter()
                opened.at(float(at_ns))
                found.append((time.perf_counter() - began) * 1e3)
        middle, most = np.percentile(found, 50), np.percentile(found, 99)
        print(
            f"any place of {words} of {name}: {middle:.0f} ms in the median, {most:.0f} ms in 99 "
            f"of 100; its index is made in {first_s:.1f} s"
        )


def repeated(folder: TakeFolder, target: Path, times: int) -> TakeFolder:
    """A long take: every track of a short one over and over, packets as they are."""
    long = TakeFolder.create(target)
    info = folder.read_info()
    length_ms = (info.duration_ns or 0) // 1_000_000
    for track in info.tracks:
        repeat_packets(folder.track_path(track), long.track_path(track), times, length_ms)
        rows = read_times(folder.times_path(track))
        rows = rows[rows["pts_ns"] < (length_ms - 1) * 1_000_000]
        more = [rows.copy() for _ in range(times)]
        for n, part in enumerate(more):
            for name in ("device_ns", "master_ns", "pts_ns"):
                part[name] += n * length_ms * 1_000_000
        write_times(long.times_path(track), np.concatenate(more))
    long.write_info(replace(info, duration_ns=times * length_ms * 1_000_000))
    return long


def _memory(folder: TakeFolder, room: Path, lengths_min: Sequence[int]) -> None:
    """Memory of rendering a shorter and a longer program with small frames, a process each."""
    found = []
    for minutes in lengths_min:
        long = repeated(folder, room / f"{minutes}-minutes", minutes * 60 // SECONDS)
        small = with_format(long.read_info().rig_values, Format(320, 180, Fraction(15)))
        long.write_info(replace(long.read_info(), rig=rig_to_dict(small)))
        with ProcessPoolExecutor(1, get_context("spawn")) as process:
            found.append(process.submit(_most_mb, long).result())
    shorter, longer = found
    words = " and ".join(map(str, lengths_min))
    print(
        f"memory of rendering {words} minutes: {shorter:.0f} and {longer:.0f} MB, "
        f"ratio {longer / shorter:.2f}"
    )


def _most_mb(folder: TakeFolder) -> float:
    """What this process needs at most while it renders a take's program."""
    work_frame_by_frame()
    info, most = folder.read_info(), 0

    def watch(done: int, total: int) -> None:
        nonlocal most
        if done % 300 == 0 or done == total:
            most = max(most, rss_bytes(os.getpid()))

    render_program(folder, info, align_take(folder, info), folder.program_path, watch)
    return most / 1e6
