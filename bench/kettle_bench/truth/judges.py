"""What ffmpeg and ffprobe say of a file; nothing of ours has a part in it."""

import json
import re
import subprocess
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kettle_bench.truth.coded import BITS, HZ
from kettle_cli.installing import need_debian

FFMPEG, FFPROBE = Path("/usr/bin/ffmpeg"), Path("/usr/bin/ffprobe")


def need_judges() -> None:
    """Have Debian's ffmpeg."""
    need_debian("ffmpeg", FFMPEG)


def _run(*words: str | Path) -> bytes:
    done = subprocess.run(
        [str(word) for word in words], capture_output=True, check=True, stdin=subprocess.DEVNULL
    )
    return done.stdout


def numbers_in(path: Path) -> list[int]:
    """The number that each frame of a file shows, in the order in which they are shown."""
    how = f"scale={BITS}:1:flags=area:out_range=full,format=gray"
    words = (FFMPEG, "-v", "error", "-i", path, "-vf", how, "-fps_mode", "passthrough")
    raw = np.frombuffer(_run(*words, "-f", "rawvideo", "-"), np.uint8).reshape(-1, BITS)
    return [int(sum(1 << bit for bit in range(BITS) if row[bit] > 127)) for row in raw]


def sound_in(path: Path) -> NDArray[np.float32]:
    """The sound of a file, mixed to one channel at 48 kHz, from where the file begins."""
    words = (FFMPEG, "-v", "error", "-i", path, "-af", f"aresample={HZ}:async=1:first_pts=0")
    return np.frombuffer(_run(*words, "-ac", "1", "-f", "f32le", "-"), np.float32)


def clicks_in(sound: NDArray[np.float32]) -> list[float]:
    """When clicks are heard, in s: the middles of what stands out."""
    size = np.abs(sound)
    loud = np.flatnonzero(size > 0.25 * max(float(size.max(initial=0)), 0.02))
    if not loud.size:
        return []
    parts = np.split(loud, np.flatnonzero(np.diff(loud) > HZ // 50) + 1)
    weights = (size[part].astype(np.float64) ** 2 for part in parts)
    return [float(np.average(part, weights=w)) / HZ for part, w in zip(parts, weights, strict=True)]


@dataclass(frozen=True)
class Probed:
    """What a container tells: lengths in s, the rate, how many frames, chapters, tags."""

    length_s: float
    picture_s: float
    fps: Fraction
    frames: int
    chapters: tuple[tuple[float, float, str], ...]
    tags: dict[str, str]


def probed(path: Path) -> Probed:
    """What ffprobe tells of a file."""
    words = ("-v", "error", "-count_packets", "-show_format", "-show_streams", "-show_chapters")
    told: dict[str, Any] = json.loads(_run(FFPROBE, *words, "-of", "json", path))
    seen: dict[str, Any] = next((s for s in told["streams"] if s["codec_type"] == "video"), {})
    chapters = tuple(
        (float(c["start_time"]), float(c["end_time"]), c["tags"]["title"])
        for c in told.get("chapters", ())
    )
    return Probed(
        float(told["format"]["duration"]),
        float(seen.get("duration", 0.0)),
        Fraction(seen.get("avg_frame_rate", "0") if seen else "0"),
        int(seen.get("nb_read_packets", 0)),
        chapters,
        {name.lower(): text for name, text in told["format"].get("tags", {}).items()},
    )


def times_of(path: Path) -> list[float]:
    """When each frame of a file is shown, in s, as its container counts."""
    what = ("-select_streams", "v:0", "-show_entries", "frame=best_effort_timestamp_time")
    told = json.loads(_run(FFPROBE, "-v", "error", *what, "-of", "json", path))["frames"]
    return [float(frame["best_effort_timestamp_time"]) for frame in told]


def seeks_to(path: Path, at_s: float) -> bool:
    """Whether a frame is there when a player jumps to a time."""
    words = ("-ss", str(at_s), "-i", path, "-frames:v", "1", "-vf", f"scale={BITS}:1,format=gray")
    return len(_run(FFMPEG, "-v", "error", *words, "-f", "rawvideo", "-")) == BITS


def shown_s_of(path: Path) -> float:
    """From the first frame of a file that is shown to the end of the last, in s."""
    times = times_of(path)
    return times[-1] - times[0] + (times[-1] - times[0]) / max(1, len(times) - 1)


def loudness_of(path: Path) -> tuple[float, float]:
    """Integrated loudness in LUFS and true peak in dBTP, by ffmpeg's ebur128."""
    words = (FFMPEG, "-nostats", "-i", path, "-map", "0:a", "-af", "ebur128=peak=true")
    done = subprocess.run(
        [str(word) for word in (*words, "-f", "null", "-")],
        capture_output=True, check=True, text=True, stdin=subprocess.DEVNULL,
    )  # fmt: skip
    summary = done.stderr.rpartition("Summary:")[2]
    found = [re.search(rf"{name}:\s+(\S+) ", summary) for name in ("I", "Peak")]
    lufs, peak = (float(one[1]) if one else float("-inf") for one in found)
    return lufs, peak


def is_faststart(path: Path) -> bool:
    """Whether an MP4's tables come before what they tell of."""
    data = path.read_bytes()
    return 0 < data.find(b"moov") < data.find(b"mdat")
