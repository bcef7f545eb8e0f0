"""What may be relied on of each track of a take, in words."""

from kettle_media.survey.losses import Gap
from kettle_media.survey.survey import SurveyedTrack
from kettle_media.take.info import TrackInfo
from kettle_web.takes.now import TakeNow

MOST_PLACES = 3


def verdicts(now: TakeNow) -> dict[str, str]:
    """By a track's name what is missing in it and when, or why it can't be read."""
    return {track.name: _verdict(now, track) for track in now.info.tracks}


def _verdict(now: TakeNow, track: TrackInfo) -> str:
    if track.damaged:
        return track.damaged
    found = now.survey.track(track.name) if now.survey else None
    if found is None:
        return "not looked at yet"
    return found.error or _losses(now, found) or "whole"


def _losses(now: TakeNow, found: SurveyedTrack) -> str:
    words = []
    lost = [gap for gap in found.gaps if gap.frames]
    away = [gap for gap in found.gaps if not gap.frames]
    if lost:
        words.append(f"{sum(g.frames for g in lost)} frames lost {_places(now, lost)}")
    if away:
        missing_s = sum(g.until_ns - g.from_ns for g in away) / 1e9
        words.append(f"{missing_s:.1f} s missing {_places(now, away)}")
    if found.clips:
        at_s = now.seconds(found.clips[0].at_ns)
        words.append(f"clips at {len(found.clips)} places, first at {_clock(at_s)}")
    return " · ".join(words)


def _places(now: TakeNow, gaps: list[Gap]) -> str:
    """When some gaps are, in take time."""
    times = [_clock(now.seconds(gap.from_ns)) for gap in gaps[:MOST_PLACES]]
    more = len(gaps) - MOST_PLACES
    return f"at {', '.join(times)}" + (f" and {more} more places" if more > 0 else "")


def _clock(seconds: float) -> str:
    return f"{int(seconds) // 60}:{int(seconds) % 60:02d}"
