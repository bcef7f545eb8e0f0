"""A program's sound alone, as a file."""

from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np

from kettle_core.assembly.export import Export
from kettle_core.sound.levels import Sound
from kettle_core.sound.mixing import to_integers
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.program.mix import ProgramMix
from kettle_media.program.program_file import Progress
from kettle_media.program.program_sound import OPTIONS, Listen
from kettle_media.program.show import Show
from kettle_media.sound.sound_frames import frame_of
from kettle_media.tags import NO_TAGS, Tags, name_chapters
from kettle_media.take.sound_track import MASTER_HZ
from kettle_media.told import Told

# Container, codec and form of samples; those with 24 bits keep all that is heard.
KINDS = {
    "wav": ("wav", "pcm_s24le", "s32"),
    "flac": ("flac", "flac", "s32"),
    "mp3": ("mp3", "libmp3lame", "fltp"),
    "m4a": ("ipod", "aac", "fltp"),
}
# What plays while it is loaded has its tables in front.
CONTAINER_OPTIONS = {"wav": {"rf64": "auto"}, "m4a": {"movflags": "+faststart"}}
WITHOUT_CHAPTERS = ("wav",)
PIECE_SAMPLES = MASTER_HZ


def write_sound(
    show: Show,
    target: Path,
    order: Export,
    on_progress: Progress,
    tags: Tags = NO_TAGS,
    listen: Listen | None = None,
) -> None:
    """Write a show's mix with `tags`; `listen` gets it too. Raises TakeError, KettleError."""
    plan = show.plan
    container_name, codec, form = KINDS[order.kind]
    options = CONTAINER_OPTIONS.get(order.kind, {})
    more = {"bits_per_raw_sample": "24"} if form == "s32" else OPTIONS.get(codec, {})
    mix, dither = ProgramMix(plan, show.sounds.read), np.random.default_rng(0)
    written = 0
    with (
        Told(target, True, "{} cannot be written"),
        av.open(str(target), "w", format=container_name, options=options) as container,
    ):
        stream: Any = container.add_stream(codec, rate=MASTER_HZ, layout="stereo", options=more)
        if form == "s32":
            stream.format = form
        else:
            stream.bit_rate = order.sound_kbps * 1000
        tags.put_into(container)
        if show.chapters and order.kind not in WITHOUT_CHAPTERS:
            name_chapters(container, show.chapters, round(plan.frames * NS_PER_S / plan.fps))
        for first in range(0, plan.samples + PIECE_SAMPLES, PIECE_SAMPLES):
            count = min(PIECE_SAMPLES, plan.samples - first)
            sound = mix.read(count) if count > 0 else mix.flush()
            if sound.shape[1]:
                if listen:
                    listen(written, sound)
                container.mux(stream.encode(_frame(sound, form, written, dither)))
                written += sound.shape[1]
            if count <= 0:
                break
            on_progress(round(plan.frames * (first + count) / plan.samples), plan.frames)
        container.mux(stream.encode(None))


def _frame(sound: Sound, form: str, at: int, dither: np.random.Generator) -> av.AudioFrame:
    if form == "s32":
        return frame_of(to_integers(sound, 24, dither), MASTER_HZ, "stereo", at)
    frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(sound), format=form, layout="stereo")
    frame.sample_rate, frame.pts, frame.time_base = MASTER_HZ, at, Fraction(1, MASTER_HZ)
    return frame
