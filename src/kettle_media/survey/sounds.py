"""A sound track at levels of detail on record time, with its voice, clips and loudness."""

from contextlib import closing
from dataclasses import dataclass
from itertools import pairwise
from math import ceil

import numpy as np
from numpy.typing import NDArray

from kettle_core.rig.devices import VOICE_KINDS
from kettle_core.sound.envelope import ENVELOPE, FULL_SCALE, STEP_SAMPLES, Envelope, envelope_of
from kettle_core.sound.levels import CLIP_LEVEL, ratio_to_db
from kettle_core.sound.loudness import SHORT_TERM_STEPS, LoudnessMeter
from kettle_core.sound.stage import FRAME_SAMPLES
from kettle_core.sound.voice import VoiceDetector
from kettle_core.timing.ticks import NS_PER_S, runs
from kettle_media.take.align import GiveWay, open_sound
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TrackInfo
from kettle_media.take.sound_track import MASTER_HZ, RawTrack, SoundTrack
from kettle_media.take.sync_report import TakeSync

BLOCK_STEPS = 10 * MASTER_HZ // STEP_SAMPLES
# Clipped samples nearer to each other than this are one place.
CLIP_APART_NS = NS_PER_S // 5
MOST_CLIPS = 2000
# Raw samples so far before the first are none: the map begins nowhere.
LONG_BEFORE = 1e15
# A breath within speech parts no voice.
VOICE_APART_NS = NS_PER_S * 3 // 10


@dataclass(frozen=True)
class Clip:
    """A place where samples are at full scale."""

    at_ns: int
    samples: int


@dataclass(frozen=True)
class HeardLoudness:
    """A track as it was recorded; `short_term_lufs` each second, three seconds wide."""

    integrated_lufs: float
    range_lu: float
    peak_dbfs: float
    short_term_lufs: tuple[float, ...]


@dataclass(frozen=True)
class SurveyedSound:
    """All that is seen of a sound. `voice` are half-open stretches of record time, ns."""

    finest: Envelope
    voice: tuple[tuple[int, int], ...]
    clips: tuple[Clip, ...]
    loudness: HeardLoudness


def survey_sound(
    folder: TakeFolder, track: TrackInfo, sync: TakeSync, length_ns: int, give_way: GiveWay
) -> SurveyedSound:
    """Go through a sound track once. Raises TakeError if it can't be read."""
    steps = max(1, ceil(length_ns * MASTER_HZ / NS_PER_S / STEP_SAMPLES))
    found, voice, clips = np.zeros(steps, ENVELOPE), _Voice(), _Clips()
    meter, peak = LoudnessMeter(track.mode.channels, track.mode.sample_rate_hz), 0.0
    heard, raw = open_sound(folder, track, sync)
    is_voice = track.kind in VOICE_KINDS
    with closing(raw):
        for first in range(0, steps, BLOCK_STEPS):
            give_way()
            until = min(first + BLOCK_STEPS, steps)
            found[first:until], parts = _envelope(heard, raw, first, until, track.mode.channels)
            if is_voice and track.mode.sample_rate_hz != MASTER_HZ:
                # Voices are told by their frequencies.
                sound = heard.read(first * STEP_SAMPLES, (until - first) * STEP_SAMPLES)
                voice.look(_Part(sound, first * STEP_SAMPLES * NS_PER_S / MASTER_HZ, 0.0))
            for part in parts:
                meter.take(part.sound)
                peak = max(
                    peak, float(-part.sound.min(initial=0)), float(part.sound.max(initial=0))
                )
                clips.look(part, found[first:until])
                if is_voice and track.mode.sample_rate_hz == MASTER_HZ:
                    voice.look(part)
    read = meter.read()
    seconds = meter.history_lufs(1.0, SHORT_TERM_STEPS)
    loudness = HeardLoudness(
        round(read.integrated_lufs, 2),
        round(read.range_lu, 2),
        round(ratio_to_db(peak), 2),
        tuple(round(float(x), 1) for x in seconds),
    )
    return SurveyedSound(found, voice.stretches(), clips.places(), loudness)


@dataclass(frozen=True)
class _Part:
    """Raw samples, and where each of them lies: the first at `at_ns`, the others `step_ns` on."""

    sound: NDArray[np.float32]
    at_ns: float
    step_ns: float


def _envelope(
    heard: SoundTrack, raw: RawTrack, first: int, until: int, channels: int
) -> tuple[Envelope, list[_Part]]:
    """The finest level of steps [first, until), and the raw samples that it was made of.

    Samples are taken as they were recorded: no filter is between what is seen and what is there.
    """
    grid = np.arange(first, until + 1) * STEP_SAMPLES
    places = heard.raw_places(grid)
    made = np.zeros(until - first, ENVELOPE)
    parts = []
    known = np.isfinite(places) & (places > -LONG_BEFORE)
    widths = np.diff(places)
    usual = float(np.nanmedian(widths)) if np.isfinite(widths).any() else 0.0
    # Where the map jumps a new run begins.
    joined = known[:-1] & known[1:] & (np.abs(widths - usual) < usual)
    for a, b in runs(joined):
        bounds = np.rint(places[a : b + 1]).astype(np.int64)
        sound = raw.read(int(bounds[0]), int(bounds[-1] - bounds[0]))
        made[a:b] = envelope_of(sound, bounds - bounds[0])
        step_ns = (b - a) * STEP_SAMPLES * NS_PER_S / MASTER_HZ / max(1, sound.shape[1])
        parts.append(_Part(sound, float(grid[a]) * NS_PER_S / MASTER_HZ, step_ns))
    return made, parts or [_Part(np.zeros((channels, 0), np.float32), 0.0, 0.0)]


class _Voice:
    """Where somebody speaks."""

    def __init__(self) -> None:
        self._detector, self._waiting = VoiceDetector(), 0
        self._found: list[tuple[int, int]] = []

    def look(self, part: _Part) -> None:
        """Frames of what was left before this part and of it."""
        spoken = self._detector.process(part.sound)
        begins_ns = part.at_ns - self._waiting * NS_PER_S / MASTER_HZ
        self._waiting += part.sound.shape[1] - spoken.size * FRAME_SAMPLES
        times_ns = begins_ns + runs(spoken) * (FRAME_SAMPLES * NS_PER_S // MASTER_HZ)
        for start, end in np.rint(times_ns).astype(np.int64).tolist():
            goes_on = self._found and start - self._found[-1][1] < VOICE_APART_NS
            self._found.append((self._found.pop()[0] if goes_on else max(0, start), end))

    def stretches(self) -> tuple[tuple[int, int], ...]:
        return tuple(self._found)


class _Clips:
    """Samples at full scale, by place."""

    def __init__(self) -> None:
        self._found: list[Clip] = []

    def look(self, part: _Part, seen: Envelope) -> None:
        """Look for them where the waveform of the part, or of more, says that there are some."""
        if max(-int(seen["least"].min(initial=0)), int(seen["most"].max(initial=0))) < FULL_SCALE:
            return
        over = np.flatnonzero((np.abs(part.sound) >= CLIP_LEVEL).any(axis=0))
        if not over.size:
            return
        at_ns = part.at_ns + over * part.step_ns
        bounds = np.flatnonzero(np.diff(at_ns) > CLIP_APART_NS) + 1
        for a, b in pairwise([0, *bounds.tolist(), over.size]):
            self._found.append(Clip(int(at_ns[a]), int(b - a)))

    def places(self) -> tuple[Clip, ...]:
        return tuple(self._found[:MOST_CLIPS])


def rms_of(level: Envelope) -> NDArray[np.float64]:
    """RMS of each step, full scale is 1.0."""
    return np.asarray(level["rms"] / FULL_SCALE)
