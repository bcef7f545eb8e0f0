"""A music bed as a source of a program: it goes on as long as it is asked for."""

from collections.abc import Iterable

from kettle_core.assembly.beds import bed, looped
from kettle_core.assembly.cut_list import Music
from kettle_core.picture.picture import Picture
from kettle_core.program.gain_lines import SILENT_DB, SoundLine
from kettle_core.program.plan import Plan
from kettle_core.sound.levels import Sound
from kettle_core.sound.tone import Tone
from kettle_core.timing.time_map import Source
from kettle_media.take.sound_track import MASTER_HZ


class MusicSource:
    """One of our own beds."""

    def __init__(self, name: str) -> None:
        self._name = name

    def pictures(self, inputs: Iterable[str], record_ns: float) -> dict[str, Picture]:
        """Nothing is seen of music."""
        return {}

    def sound(self, input_id: str, tone: Tone, first: int, count: int) -> Sound:
        """(2, count) of the bed from a sample on, over and over."""
        return looped(bed(self._name), first, count)

    def identity(self) -> str:
        """A text that is another one when the bed is."""
        return f"bed {self._name} 1"

    def close(self) -> None:
        """Nothing is open."""


def music_line(music: Music, source: Source, plan: Plan) -> SoundLine:
    """The line of a bed under a whole plan: faded in and out, below voices."""
    end = plan.samples
    fade = min(end // 2, round(music.fade_ms * MASTER_HZ / 1000))
    level: tuple[tuple[int, float], ...] = ((fade, music.gain_db), (end - fade, music.gain_db))
    if fade:
        level = ((0, SILENT_DB), *level, (end, SILENT_DB))
    return SoundLine(source, "music", 0, end, 0, level, under_voices=True)
