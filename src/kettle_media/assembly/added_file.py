"""Files that a tutorial uses besides its takes: video and sound, taken in once.

A file is kept as it came, named by its SHA-256; beside it lies its sound at 48 kHz, stereo, 16
bits, from which any sample is read at once. Both are there, or neither is.
"""

import hashlib
import time
import wave
from collections.abc import Container
from contextlib import suppress
from itertools import chain
from pathlib import Path
from typing import Any, BinaryIO
from uuid import uuid4

import av
import numpy as np

from kettle_core.assembly.cut_list import AddedFile
from kettle_core.errors import CutError
from kettle_core.sound.mixing import to_integers
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.durable import put_in_place
from kettle_media.foreign import open_foreign
from kettle_media.rig.intake import playable_ending, receive
from kettle_media.take.sound_track import MASTER_HZ
from kettle_media.told import Told

MOST_FILE_S = 2 * 3600
# Somebody may still be about to use what is younger.
OLD_S = 24 * 3600
# Stamps of a container are not exact; what lies further off is meant so.
HOLE_S = 0.03


def take_in(file: BinaryIO, name: str, folder: Path) -> AddedFile:
    """Keep a file that somebody gives.

    Parameters
    ----------
    file : read to its end
    name : what it is called; its ending says what it may be
    folder : where files are kept; made if it is not there

    Raises
    ------
    CutError
        If it can't be played, or is too long.
    TakeError
        If the disk won't have it; nothing is left then.
    """
    shown, suffix = name[:60], playable_ending(name, CutError)
    with Told(folder, True, "{} cannot be written"):
        folder.mkdir(parents=True, exist_ok=True)
    _remove_left_over(folder)
    part = folder / f".{uuid4().hex}.part{suffix}"
    sound = part.with_suffix(".part.wav")
    try:
        probe = receive(file, part, name, CutError)
        with part.open("rb") as kept:
            digest = hashlib.file_digest(kept, "sha256").hexdigest()
        picture_s = _picture_length_s(part) if probe.picture else 0.0
        if picture_s > MOST_FILE_S:
            raise _too_long(shown)
        heard_s = _write_sound(part, sound, shown) if probe.sound else 0.0
        made = AddedFile(
            "file",
            name[:200],
            digest,
            max(1, round((picture_s or heard_s) * NS_PER_S)),
            bool(probe.picture),
        )
        with Told(folder, True, "{} cannot be written"):
            if probe.sound:
                put_in_place(sound, sound_path(folder, made))
            put_in_place(part, folder / kept_name(made))
        return made
    finally:
        for path in (part, sound):
            with suppress(OSError):
                path.unlink(missing_ok=True)


def _remove_left_over(folder: Path) -> None:
    """Remove what somebody was killed over."""
    for left in folder.glob(".*.part*"):
        _remove_old(left)


def _remove_old(path: Path) -> None:
    with suppress(OSError):
        if time.time() - path.stat().st_mtime > OLD_S:
            path.unlink(missing_ok=True)


def kept_name(file: AddedFile) -> str:
    """What a file is called where it is kept."""
    return f"{file.digest}{Path(file.name).suffix.lower()}"


def remove_unused(folder: Path, used: Container[str]) -> None:
    """Remove files whose digests nothing uses, but those that just came."""
    for path in folder.glob("[!.]*"):
        if path.name.partition(".")[0] not in used:
            _remove_old(path)


def file_path(folder: Path, file: AddedFile) -> Path:
    """Where a file lies. Raises CutError if it is gone."""
    path = folder / kept_name(file)
    if not path.is_file():
        raise CutError(f"The file “{file.name}” is gone. Add it again.", "file")
    return path


def sound_path(folder: Path, file: AddedFile) -> Path:
    """Where the sound of a file lies, if it has one."""
    return folder / f"{file.digest}.sound.wav"


def _picture_length_s(path: Path) -> float:
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


def _write_sound(path: Path, target: Path, shown: str) -> float:
    """Its sound as a WAV file that begins where its picture does; gives its length in s.

    Each block lies where its own time says, which counts without what its encoder began with;
    where some is missing there is silence.
    """
    to_plain, dither = av.AudioResampler("fltp", "stereo", MASTER_HZ), np.random.default_rng(0)
    most = MOST_FILE_S * MASTER_HZ
    at_s: float | None = None
    with Told(path), open_foreign(path) as container:
        stream = container.streams.best("audio")
        begins_s = first_seen_s(path) if container.streams.video else None
        if container.format.name == "avi":
            # It has no stamps: libav counts its pictures from 1 on, and its sounds from 0.
            rate = seen_stream(container).average_rate if container.streams.video else None
            begins_s = begins_s - float(1 / rate) if rate and begins_s else begins_s
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
                    raise _too_long(shown)
            return out.tell() / MASTER_HZ


def _write(out: wave.Wave_write, blocks: Any, skip: int, dither: np.random.Generator) -> int:
    """Write blocks without so many samples at first; gives how many of these are left."""
    for plain in blocks:
        block = np.asarray(plain.to_ndarray(), np.float32)
        skipped = min(skip, block.shape[1])
        skip, block = skip - skipped, block[:, skipped:]
        out.writeframes(to_integers(block, 16, dither).T.astype("<i2").tobytes())
    return skip


def _too_long(shown: str) -> CutError:
    hours = MOST_FILE_S // 3600
    return CutError(f"“{shown}” is longer than {hours} hours, so nothing was added.", "file")
