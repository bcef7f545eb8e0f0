"""Small plots over a take, as paths that a template draws."""

from collections.abc import Sequence
from dataclasses import dataclass
from math import log10
from statistics import median
from typing import Any

from kettle_core.rig.devices import VOICE_KINDS
from kettle_core.rig.rig import Rig
from kettle_core.sound.background import BACKGROUND_ABOVE_DBFS, LEAST_DB
from kettle_media.survey.survey import Survey, SurveyedTrack
from kettle_media.take.info import TrackInfo

WIDTH, HEIGHT = 240.0, 34.0
# Lateness below this says nothing.
LATE_MS = 20.0
Point = tuple[float, float]


@dataclass(frozen=True)
class Plot:
    """A curve over the length of a take, on a sheet of WIDTH × HEIGHT; `dots` beside it.

    `words` is what the curve says in numbers, `low` and `high` the ends of its scale.
    """

    title: str
    words: str
    curve: str
    dots: tuple[Point, ...] = ()
    low: str = ""
    high: str = ""
    is_look: bool = False


def plot(
    title: str,
    words: str,
    points: Sequence[Point],
    scale: tuple[float, float],
    dots: Sequence[Point] = (),
    **more: Any,
) -> Plot:
    """Lay points (s, value) on the sheet; `scale` is the least and the greatest value shown."""
    last = max([x for x, _ in [*points, *dots]], default=0.0) or 1.0
    low, high = scale
    span = (high - low) or 1.0

    def placed(point: Point) -> Point:
        x, y = point
        share = min(1.0, max(0.0, (y - low) / span))
        return round(x / last * WIDTH, 1), round(HEIGHT - 1 - share * (HEIGHT - 2), 1)

    curve = " ".join(f"{x:g},{y:g}" for x, y in map(placed, points))
    return Plot(title, words, curve, tuple(map(placed, dots)), **more)


def clock_plot(found: SurveyedTrack) -> Plot | None:
    """How far a track's clock ran from the master: the map as a line, stamps as dots."""
    if len(found.clock) < 2:
        return None
    line = [(p.at_s, p.map_ms) for p in found.clock]
    stamps = [(p.at_s, p.stamp_ms) for p in found.clock]
    # One stamp far off, as in a pause, does not make the others small.
    values = sorted(y for _, y in line + stamps)[1:-1]
    in_all = max(y for _, y in line) - min(y for _, y in line)
    words = f"{in_all:.1f} ms in all, in {len(found.knots)} piece{'s' * (len(found.knots) != 1)}"
    return plot("", words, line, (min(values), max(values)), stamps)


def fact_plots(survey: Survey, tracks: Sequence[TrackInfo], rig: Rig) -> list[Plot]:
    """Loudness of sounds, how tracks were written, the load of the encoders."""
    made = []
    for track in tracks:
        found = survey.track(track.name)
        if found is None or found.error:
            continue
        if found.loudness:
            made.append(_loudness(track, found))
        if found.written:
            made.append(_bitrate(track, found))
            made += _troubles(track, found)
    made += _over_background(survey, rig)
    if len(survey.loads) > 1:
        loads = [(s, 100 * load) for s, load in survey.loads]
        most = max(y for _, y in loads)
        words = f"busiest encoder {most:.0f} % at most"
        made.append(
            plot("Load", words, loads, (0, max(100, most)), high="100 %", is_look=most > 80)
        )
    return made


def _loudness(track: TrackInfo, found: SurveyedTrack) -> Plot:
    loud = found.loudness
    assert loud is not None
    points = [(float(n), max(-60.0, x)) for n, x in enumerate(loud.short_term_lufs)]
    words = (
        f"{loud.integrated_lufs:.1f} LUFS, range {loud.range_lu:.1f} LU, "
        f"peak {loud.peak_dbfs:.1f} dBFS"
    )
    return plot(
        f"{track.title}: loudness",
        words.replace("-", "−"),
        points,
        (-60, 0),
        low="−60",
        high="0 LUFS",
        is_look=bool(found.clips),
    )


def _over_background(survey: Survey, rig: Rig) -> list[Plot]:
    """How far the voice stands above all else in the mix of the scene a take begins with.

    By their loudness over 3 s, gains and ducking counted, while it speaks; chains are not.
    """
    voice: tuple[SurveyedTrack, list[float]] | None = None
    others: list[list[float]] = []
    for sound in rig.default_scene.sounds:
        item, found = rig.input(sound.input_id), survey.track(sound.input_id)
        if not sound.heard or not item.on or found is None or found.loudness is None:
            continue
        gain_db = item.tone.gain_db + sound.gain_db
        loud = [x + gain_db for x in found.loudness.short_term_lufs]
        if item.kind not in VOICE_KINDS:
            down_db = rig.ducking.depth_db if rig.ducking.on else 0.0
            others.append([x - down_db for x in loud])
        elif voice is None:
            voice = found, loud
    if voice is None or not others:
        return []
    spoken = {s for a, b in voice[0].voice for s in range(int(a / 1e9), int(b / 1e9) + 1)}
    points = []
    for second, above in enumerate(voice[1]):
        there = sum(10 ** (loud[second] / 10) for loud in others if second < len(loud))
        if second in spoken and there > 10 ** (BACKGROUND_ABOVE_DBFS / 10):
            points.append((float(second), above - 10 * log10(there)))
    if not points:
        return []
    middle, least = median(y for _, y in points), min(y for _, y in points)
    words = f"{middle:.0f} dB while it speaks, {least:.0f} at least"
    return [
        plot(
            "Voice over background",
            words.replace("-", "−"),
            points,
            (-5, 35),
            low="−5",
            high="35 dB",
            is_look=middle < LEAST_DB,
        )
    ]


def _bitrate(track: TrackInfo, found: SurveyedTrack) -> Plot:
    written = found.written
    assert written is not None
    points = [(float(n * written.every_s), x) for n, x in enumerate(written.mbit_per_s)]
    most = max(written.mbit_per_s, default=0.0)
    mean = sum(written.mbit_per_s) / max(1, len(written.mbit_per_s))
    words = f"{mean:.2f} Mbit/s, {most:.2f} at most"
    return plot(f"{track.title}: bitrate", words, points, (0, most), high=f"{most:.1f}")


def _troubles(track: TrackInfo, found: SurveyedTrack) -> list[Plot]:
    """Drops and lateness, where there was any to speak of."""
    written = found.written
    assert written is not None
    made = []
    dropped = sum(written.dropped)
    if dropped:
        points = [(float(n * written.every_s), float(x)) for n, x in enumerate(written.dropped)]
        words = f"{dropped} frames in all"
        scale = (0.0, float(max(written.dropped)))
        made.append(plot(f"{track.title}: dropped", words, points, scale, is_look=True))
    late = max(written.late_ms, default=0.0)
    if late >= LATE_MS:
        points = [(float(n * written.every_s), x) for n, x in enumerate(written.late_ms)]
        words = f"{late:.0f} ms at most"
        made.append(plot(f"{track.title}: lateness", words, points, (0, late)))
    return made
