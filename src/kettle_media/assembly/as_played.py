"""What players show and play of a file: from when on, for how long, its sound in step."""

import wave
from itertools import chain
from pathlib import Path
from typing import Any

import av
import numpy as np

from kettle_core.sound.mixing import to_integers
from kettle_media.foreign import open_foreign
from kettle_media.take.sound_track import MASTER_HZ
from kettle_media.told import Told

# Stamps of a container are not exact; what lies further off is meant so.
HOLE_S = 0.03


def picture_length_s(path: Path) -> float:
    """From the first frame that players show to the end of the last, from packets.

    What an edit list hides is decoded, but not shown: its packets say so.
    """
    with Told(path), open_foreign(path) as container:
        stream = seen_stream(container)
        times = [
            (packet.pts, packet.duration or 0)
            for packet in container.demux(stream)
            if packet.pts is not None and not packet.is_discard
        ]
    if not times or stream.time_base is None:
        return 0.0
    first, last = min(times)[0], max(times)
    frame = last[1] or (1 / ((stream.average_rate or 25) * stream.time_base))
    return float((last[0] - first + frame) * stream.time_base)


def seen_stream(container: Any) -> Any:
    """The video stream that players show: no cover picture, if there is another one."""
    return container.streams.best("video")


def first_seen_s(path: Path) -> float:
    """When the first frame is shown, as its container counts; 0 without one. May raise PyAV's."""
    with open_foreign(path) as container:
        stream = seen_stream(container)
        frame = next(container.decode(stream), None) if stream else None
        return float(frame.time or 0.0) if frame else 0.0


def write_sound(path: Path, target: Path, most_s: float) -> float:
    """Its sound as a WAV file that begins where its picture does; gives its length in s.

    Each block lies where its own time says, which counts without what its encoder began with;
    where some is missing there is silence. What is longer than `most_s` is left unfinished.

    Raises TakeError.
    """
    to_plain, dither = av.AudioResampler("fltp", "stereo", MASTER_HZ), np.random.default_rng(0)
    most = round(most_s * MASTER_HZ)
    at_s: float | None = None
    with Told(path), open_foreign(path) as container:
        stream = container.streams.best("audio")
        begins_s = _zero_s(container, path)
        with Told(target, True, "{} cannot be written"), wave.open(str(target), "wb") as out:
            out.setparams((2, 2, MASTER_HZ, 0, "NONE", ""))
            skip = 0
            for frame in chain(container.decode(stream), [None]):
                if frame is not None:
                    begins_s = frame.time or 0.0 if begins_s is None else begins_s
                    now_s = (at_s or 0.0) if frame.time is None else frame.time - begins_s
                    if at_s is None or abs(now_s - at_s) > HOLE_S:
                        rest = [] if at_s is None else to_plain.resample(None)
                        skip = _write(out, rest, skip, dither)
                        to_plain = av.AudioResampler("fltp", "stereo", MASTER_HZ)
                        place = round(now_s * MASTER_HZ)
                        missing = min(most, place - out.tell())
                        out.writeframes(bytes(4 * max(0, missing)))
                        skip = max(0, -missing)
                        at_s = now_s
                    at_s += frame.samples / frame.sample_rate
                skip = _write(out, to_plain.resample(frame), skip, dither)
                if out.tell() > most:
                    break
            return out.tell() / MASTER_HZ


def _zero_s(container: Any, path: Path) -> float | None:
    """When its picture begins, as sounds count; None where it has none."""
    stream = seen_stream(container)
    if stream is None:
        return None
    begins_s = first_seen_s(path)
    if container.format.name == "avi" and stream.average_rate:
        # It has no stamps: libav counts its pictures from 1 on, and its sounds from 0.
        begins_s -= float(1 / stream.average_rate)
    return begins_s


def _write(out: wave.Wave_write, blocks: Any, skip: int, dither: np.random.Generator) -> int:
    """Write blocks without so many samples at first; gives how many of these are left."""
    for plain in blocks:
        block = np.asarray(plain.to_ndarray(), np.float32)
        skipped = min(skip, block.shape[1])
        skip, block = skip - skipped, block[:, skipped:]
        out.writeframes(to_integers(block, 16, dither).T.astype("<i2").tobytes())
    return skip
