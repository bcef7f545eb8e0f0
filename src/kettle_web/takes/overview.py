"""What lines, lanes and player of a take are drawn from: plain data in take time, seconds."""

from collections.abc import Iterable
from dataclasses import asdict
from typing import Any

from django.urls import reverse

from kettle_core.program.afterwards import cue_id, movements
from kettle_core.program.cues import (
    CloseUp,
    Cue,
    GoOn,
    Hide,
    Mark,
    Mute,
    Place,
    Show,
    Step,
    ToScene,
    Unmute,
)
from kettle_core.rig.devices import VOICE_KINDS
from kettle_core.rig.rig import Rig
from kettle_core.timing.ticks import NS_PER_S
from kettle_core.timing.time_map import to_ns
from kettle_media.survey.survey import SurveyedTrack
from kettle_media.take.info import TrackInfo
from kettle_web.models import Rig as KeptRig
from kettle_web.models import Take
from kettle_web.takes.files import played_address, stamp_of
from kettle_web.takes.now import TakeNow, take_now
from kettle_web.takes.plots import LATE_MS


def overview(take: Take) -> dict[str, Any]:
    """All that is drawn of a take; without its survey what is known so far. Raises TakeError."""
    now = take_now(take)
    survey = now.survey
    tracks = [t for t in now.info.tracks if not t.damaged]
    voice = next((t.name for t in tracks if t.kind in VOICE_KINDS), "")
    sounds = [t.name for t in tracks if not t.is_picture]
    return {
        "revision": take.revision,
        "length_s": float(now.take_time.length_ns) / NS_PER_S,
        "fps": float(now.was.rig.format.fps),
        # Where take time and record time part: at, and from where on.
        "pieces": [
            (float(p.start_ns) / NS_PER_S, float(p.from_ns) / NS_PER_S)
            for p in now.take_time.pieces
        ],
        "ink": voice or (sounds[0] if sounds else ""),
        "tracks": [_track(take, now, track) for track in now.info.tracks],
        "cues": cue_rows(now, now.cues, (Mark, Step, GoOn)),
        "marks": [mark_row(now, mark) for mark in now.said.marks],
        "steps": step_rows(now),
        "scenes": scene_rows(now),
        "quiet": now.spans(survey.quiet) if survey else [],
        "happened": [
            (now.seconds(h.at_ns), h.what, h.words) for h in (survey.happened if survey else ())
        ],
        "surveyed": survey is not None,
        "program": played_address(take, "program") if take.has_program_now else "",
        "plan": _plan_address(take),
    }


def layers_at(now: TakeNow, at_s: float) -> dict[str, Any]:
    """The scene at a time of the take, its layers, and the frame in which they lie."""
    at_ns = min(round(at_s * NS_PER_S), int(now.take_time.length_ns) - 1)
    state = now.said.state_at(to_ns(now.take_time.source_at(max(0, at_ns))[1]))
    size = now.was.rig.format
    return {
        "scene": state.scene_id,
        "frame": [size.frame_width, size.frame_height],
        "layers": [asdict(layer) for layer in state.seen_layers()],
    }


def _plan_address(take: Take) -> str:
    """Where it is played from its plan: another address when it is changed, or its own rig."""
    own = KeptRig.with_takes.filter(of_take=take).values_list("revision", flat=True).first() or 0
    return f"/live/takes/{take.pk}/?revision={take.revision}.{own}"


def _track(take: Take, now: TakeNow, track: TrackInfo) -> dict[str, Any]:
    found = (now.seen and now.seen.track(track.name)) or SurveyedTrack(track.name)
    shift_ns = now.changed.nudge_ms(track.name) * 1e6

    def address(kind: str, name: str) -> str:
        return reverse("take-file", args=[take.pk, kind, name])

    made: dict[str, Any] = {
        "name": track.name,
        "title": track.title,
        "kind": track.kind,
        "is_picture": track.is_picture,
        "fps": float(track.mode.fps) if track.is_picture else 0,
        "shift_s": shift_ns / NS_PER_S,
        "play": played_address(take, "play", track.name),
        "knots": [k.to_s() for k in found.knots] or [(0.0, 0.0, 1.0)],
        "came": [found.as_it_came.to_s()],
        "error": track.damaged or found.error,
        "gaps": now.spans((g.from_ns + shift_ns, g.until_ns + shift_ns) for g in found.gaps),
        "voice": now.spans((a + shift_ns, b + shift_ns) for a, b in found.voice),
        "late": _late(now, found, shift_ns),
        "clips": [(now.seconds(c.at_ns + shift_ns), c.samples) for c in found.clips],
        "levels": [
            {"step_s": x.step_ns / NS_PER_S, "offset": x.offset, "count": x.count}
            for x in found.levels
        ],
        "fine_at": reverse("take-fine", args=[take.pk, track.name]) if now.survey else "",
        "levels_at": address("levels", track.name) if found.levels else "",
    }
    if found.sheets:
        files = range(found.sheets.files)
        made["sheets"] = {
            **asdict(found.sheets),
            "every_s": found.sheets.every_ns / NS_PER_S,
            "at": [address("sheet", f"{track.name}-{number:02d}") for number in files],
            "near": f"{reverse('take-strip', args=[take.pk, track.name])}"
            f"?v={stamp_of(now.folder.track_path(track))}",
        }
    return made


def _late(now: TakeNow, found: SurveyedTrack, shift_ns: float) -> list[tuple[float, float]]:
    """(take time in s, ms) of seconds in which something came late."""
    if found.written is None:
        return []
    every_ns = found.written.every_s * NS_PER_S
    late = ((n * every_ns + shift_ns, ms) for n, ms in enumerate(found.written.late_ms))
    return [(now.seconds(at_ns), ms) for at_ns, ms in late if ms >= LATE_MS]


def mark_row(now: TakeNow, mark: Mark) -> dict[str, Any]:
    """A mark in take time."""
    until_s = None if mark.until_ns is None else now.seconds(mark.until_ns)
    at_s = now.seconds(mark.at_ns)
    return {"id": cue_id(mark), "at_s": at_s, "until_s": until_s, "text": mark.text}


def step_rows(now: TakeNow) -> list[dict[str, Any]]:
    """When steps begin, with their names."""
    return [{"at_s": now.seconds(s.at_ns), "words": s.step} for s in now.said.steps]


def scene_rows(now: TakeNow) -> list[dict[str, Any]]:
    """Where the scene changes, with its name."""
    found: list[dict[str, Any]] = []
    names = {s.id: s.name for s in now.was.rig.scenes}
    there, before = {cue_id(cue) for cue in now.cues if isinstance(cue, ToScene)}, ""
    for moment in now.said.moments:
        scene = moment.state.scene_id
        if scene != before:
            at_s, before = now.seconds(moment.at_ns), scene
            # A scene that is gone again at the same moment was never seen.
            while found and found[-1]["at_s"] >= at_s:
                found.pop()
            cue = cue_id(ToScene(moment.at_ns, scene))
            row = {"at_s": at_s, "words": names[scene], "scene": scene}
            # What it begins with may be no cue.
            found.append({**row, "cue": cue if cue in there else ""})
    return found


def cue_rows(now: TakeNow, cues: Iterable[Cue], but: tuple[type[Cue], ...]) -> list[dict[str, Any]]:
    """Cues in take time, in words; the steps of a drag in one row, those of some kinds left out."""
    wanted = [cue for cue in cues if not isinstance(cue, but)]
    return [_cue_row(now, steps) for steps in movements(wanted)]


def _cue_row(now: TakeNow, steps: tuple[Cue, ...]) -> dict[str, Any]:
    cue, at_s = steps[0], now.seconds(steps[0].at_ns)
    words = cue_words(cue, now.was.rig, now.seconds(steps[-1].at_ns) - at_s)
    return {"id": cue_id(cue), "at_s": at_s, "do": cue.do, "words": words}


def cue_words(cue: Cue, rig: Rig, lasts_s: float = 0.0) -> str:
    """A cue for people, or a drag that begins with it and lasts so long."""
    names = {i.id: i.name for i in rig.inputs} | {s.id: s.name for s in rig.scenes}
    if isinstance(cue, ToScene):
        return names.get(cue.scene, cue.scene)
    if isinstance(cue, CloseUp):
        return f"{names.get(cue.input, cue.input)} {'closer' if cue.part else 'whole'}"
    if isinstance(cue, Hide | Show | Mute | Unmute):
        return f"{names.get(cue.input, cue.input)} {_DONE[cue.do]}"
    if isinstance(cue, Place):
        layers = (x for s in rig.scenes if s.id == cue.scene for x in s.layers)
        placed = next((names[x.input_id] for x in layers if x.id == cue.layer), "a layer")
        return f"{placed} dragged, {lasts_s:.1f} s" if lasts_s else f"{placed} placed"
    return cue.do


_DONE = {
    "hide": "hidden",
    "show": "shown",
    "mute": "muted",
    "unmute": "heard",
}
