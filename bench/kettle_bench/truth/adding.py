"""Odd files added to a cut list: shown as long as they are, sound in step with pictures."""

import subprocess
from collections.abc import Collection, Iterator
from contextlib import closing
from pathlib import Path

from kettle_bench.truth.coded import BITS, FPS, HIGH, HZ, WIDE
from kettle_bench.truth.judges import FFMPEG, clicks_in, numbers_in, shown_s_of, sound_in, times_of
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.assembly.added_file import sound_path, take_in
from kettle_media.assembly.file_source import FileSound, FileSource

# The words for ffmpeg between input and output, and the file's ending, of a coded MP4.
COPY = ("-c", "copy")
VP9 = ("-c:v", "libvpx-vp9", "-deadline", "realtime", "-cpu-used", "8", "-crf", "20", "-b:v", "0")
X264 = ("-c:v", "libx264", "-preset", "ultrafast", "-crf", "12")
KINDS: dict[str, tuple[tuple[str, ...], str]] = {
    "as it is": (COPY, "mp4"),
    "Matroska": (COPY, "mkv"),
    "QuickTime, PCM": (("-c:v", "copy", "-c:a", "pcm_s16le"), "mov"),
    "WebM, Opus": ((*VP9, "-c:a", "libopus"), "webm"),
    "WebM, Vorbis": ((*VP9, "-c:a", "libvorbis"), "webm"),
    "AVI, PCM": ((*X264, "-bf", "0", "-c:a", "pcm_s16le"), "avi"),
    "FFV1, FLAC": (("-c:v", "ffv1", "-c:a", "flac"), "mkv"),
    "MP4, MP3": (("-c:v", "copy", "-c:a", "libmp3lame"), "mp4"),
    "MP4, Opus": (("-c:v", "copy", "-c:a", "libopus"), "mp4"),
    "MP4, FLAC": (("-c:v", "copy", "-c:a", "flac", "-strict", "-2"), "mp4"),
    "44.1 kHz, one channel": (("-c:v", "copy", "-c:a", "aac", "-ar", "44100", "-ac", "1"), "mp4"),
    "many B-frames": ((*X264, "-bf", "8", "-b_strategy", "0", "-c:a", "copy"), "mp4"),
    "10 bits": ((*X264, "-pix_fmt", "yuv420p10le", "-c:a", "copy"), "mp4"),
    "full range": ((*X264, "-vf", "scale=out_range=full", "-color_range", "pc"), "mp4"),
    "RGB": (("-c:v", "libx264rgb", "-preset", "ultrafast", "-crf", "8", "-c:a", "copy"), "mkv"),
    "wide pixels": ((*X264, "-vf", "setsar=2", "-c:a", "copy"), "mp4"),
    "rates that vary": (
        (*X264, "-vf", "select='not(eq(mod(n\\,7)\\,3))'", "-fps_mode", "vfr", "-c:a", "copy"),
        "mp4",
    ),
    "twice the rate": ((*X264, "-r", "60", "-c:a", "copy"), "mov"),
    "two sounds": (
        ("-map", "0:v", "-map", "0:a", "-map", "0:a", "-c", "copy", "-disposition:a:1", "0"),
        "mkv",
    ),
    "tables at the end, 90 kHz": ((*COPY, "-video_track_timescale", "90000"), "mp4"),
}
# How it is cut before.
BEGINNINGS: dict[str, tuple[str, ...]] = {"": (), "trimmed": ("-ss", "2.37", "-t", "5.31")}
# A file counts in ms at worst.
SYNC_S = 0.0016
# What an Opus encoder begins with, 6.5 ms, some ffmpeg count as sound in Matroska: by its standard
# (RFC 9559, CodecDelay) it is none.
OPUS_S = 0.0065 + SYNC_S


def odd_files(
    coded: Path, room: Path, wanted: Collection[str] = tuple(KINDS)
) -> Iterator[tuple[str, Path]]:
    """Forty files of a coded one, each with its name; or those of some kinds."""
    for before, cut in BEGINNINGS.items():
        for name in wanted:
            how, suffix = KINDS[name]
            path = room / f"odd.{suffix}"
            path.unlink(missing_ok=True)
            words = (FFMPEG, "-v", "error", "-y", *cut, "-i", coded, *how, path)
            subprocess.run(list(map(str, words)), check=True, stdin=subprocess.DEVNULL)
            yield f"{name} {before}".strip(), path


def added_faults(name: str, path: Path, room: Path) -> list[str]:
    """What is wrong of a file once it was added, in words.

    Parameters
    ----------
    name : its kind
    path : a file of coded pictures and clicks, both of the same time
    room : where it is kept
    """
    with path.open("rb") as file:
        made = take_in(file, path.name, room)
    shown_s, wrong = shown_s_of(path), []
    if abs(made.length_ns / NS_PER_S - shown_s) > 1 / FPS + 0.001:
        wrong.append(f"{made.length_ns / NS_PER_S:.3f} s long, {shown_s:.3f} by ffprobe")
    sound = FileSound(sound_path(room, made)).read(0, int(made.length_ns * HZ // NS_PER_S))
    found = clicks_in(sound.mean(axis=0))
    if len(found) < int(made.length_ns / NS_PER_S) - 1:
        wrong.append(f"{len(found)} clicks")
    with closing(FileSource(made, room, (WIDE, HIGH))) as source:

        def number_at(at_s: float) -> int:
            luma = source.pictures(["it"], at_s * NS_PER_S)["it"].y
            bits = luma[HIGH // 2].reshape(BITS, -1).astype(float).mean(axis=1)
            return int(sum(1 << bit for bit in range(BITS) if bits[bit] > 127))

        # The first frame of a later second, as it is numbered, and the click that comes with it.
        numbers, times_s = numbers_in(path), times_of(path)
        wanted = (numbers[0] // round(FPS) + 2) * round(FPS)
        place = next(n for n, number in enumerate(numbers) if number >= wanted)
        theirs = _nearest(clicks_in(sound_in(path)), times_s[place]) - times_s[place]
        low, high = 0.0, made.length_ns / NS_PER_S - 0.02
        while high - low > SYNC_S / 10:
            middle = (low + high) / 2
            low, high = (low, middle) if number_at(middle) >= wanted else (middle, high)
        ours = _nearest(found, high) - high
        if abs(ours - theirs) > (OPUS_S if "WebM, Opus" in name else SYNC_S):
            wrong.append(
                f"its sound comes {1000 * (ours - theirs):+.1f} ms later than ffmpeg has it"
            )
    return wrong[:3]


def _nearest(places: list[float], at_s: float) -> float:
    return min(places, key=lambda place: abs(place - at_s), default=0.0)
