"""What the Sound page and the tracks table show."""

import json
import time
from collections.abc import Sequence
from typing import Any

import numpy as np
from django import forms

from kettle_core.rig.devices import VOICE_KINDS
from kettle_core.rig.rig import Input
from kettle_core.rig.rig import Rig as RigValues
from kettle_core.rig.sound_changes import PRESETS, preset_of, sounds_of
from kettle_core.scene.scene import Scene
from kettle_core.sound.background import Ducking, DuckingGains
from kettle_core.sound.routing import Stem
from kettle_web.frame.form_fields import plain
from kettle_web.frame.history import history
from kettle_web.frame.selectors import level_strip
from kettle_web.jobs.selectors import newest_open
from kettle_web.models import Job, Rig
from kettle_web.rigs.addresses import sound_address
from kettle_web.rigs.engines import state_of
from kettle_web.rigs.heard import HEARD_FOR_S, heard_path
from kettle_web.sound.forms import ChainForm, DuckingForm, MixForm, StemForm

# Drawings are in these units and stretched to their place.
WIDE, HIGH = 400.0, 120.0

HISTORY_LUFS = (-60.0, 0.0)

SPECTRUM_DBFS = (-120.0, -20.0)

DUCKING_SHOWN_S = 10.0

NUMBERS = (
    ("Noise floor", "noise_floor_dbfs", "dBFS"),
    ("Voice", "voice_dbfs", "dBFS"),
    ("Voice to noise", "voice_to_noise_db", "dB"),
    ("Loudness", "integrated_lufs", "LUFS"),
    ("True peak", "true_peak_dbtp", "dBTP"),
)

OF_VOICES = ("Noise floor", "Voice", "Voice to noise")

AN_EXAMPLE = [(150, 420), (640, 760)]

LEAST_SHOWN_DB = -110.0


def first_sound(values: RigValues) -> Input | None:
    """The sound that the Sound page opens with: a voice if there is one."""
    sounds = sounds_of(values)
    voices = [i for i in sounds if i.kind in VOICE_KINDS]
    return next(iter([*voices, *sounds]), None)


def sound_page(rig: Rig, item: Input, wrong: dict[str, forms.Form] | None = None) -> dict[str, Any]:
    """One sound's chain, what was heard of it, and its balance with the others."""
    values = rig.values
    found = compared(rig, item)
    made = {
        "chain": chain_form(item),
        "ducking": ducking_form(values),
    } | (wrong or {})
    return {
        "rig": rig,
        "page": "sound",
        "input": item,
        "sounds": sounds_of(values),
        "is_voice": item.kind in VOICE_KINDS,
        "forms": made,
        "heard": found,
        "comparing": comparison_job(rig, item),
        "strip": level_strip(),
        "engine": state_of(rig),
        "sides": balance_sides(values, values.default_scene),
        "scene": values.default_scene,
        "ducking": ducking_drawing(values.ducking, found["voice_frames"] if found else AN_EXAMPLE),
        "history": history(rig),
        "here": sound_address(rig.slug, item.id),
    }


def chain_form(item: Input) -> ChainForm:
    """A sound's chain as it is."""
    return ChainForm(initial=ChainForm.values_of(item.tone), auto_id="chain-%s")


def ducking_form(values: RigValues) -> DuckingForm:
    """The rig's ducking as it is."""
    return DuckingForm(initial=plain(vars(values.ducking)), auto_id="ducking-%s")


def comparison_of(rig: Rig, item: Input) -> str:
    """What the job of a sound's comparison is about."""
    return f"rig:{rig.pk}:{item.id}"


def comparison_job(rig: Rig, item: Input) -> Job | None:
    """The comparison that was ordered last, while it is not done."""
    return newest_open("comparison", comparison_of(rig, item))


def compared(rig: Rig, item: Input) -> dict[str, Any] | None:
    """What the chain makes of what was heard last, in drawings; None if that is long ago."""
    try:
        found = json.loads(heard_path(rig, item, "json").read_text())
    except (OSError, ValueError):
        return None
    if time.time() - found["at"] > HEARD_FOR_S or not found.get("compared"):
        return None
    figures = found["compared"]
    before, after = figures["before"], figures["after"]
    # Of music there is neither voice nor noise to tell, and no cleaning to propose.
    is_voice = item.kind in VOICE_KINDS
    proposal = figures["proposal"] if is_voice else None
    rows = [
        {"name": name, "before": _level(before[key]), "after": _level(after[key]), "unit": unit}
        for name, key, unit in NUMBERS
        if is_voice or name not in OF_VOICES
    ]
    return {
        # The files are new with every change of the chain.
        "stamp": heard_path(rig, item, "after").stat().st_mtime_ns,
        "rows": rows,
        "hum": figures["hum"],
        "proposal": proposal,
        "is_taken": _is_taken(proposal, item),
        "voice_s": before["voice_s"],
        "shared": _shared_words(rig.values, found.get("shared", [])),
        "clipped": before["clipped_samples"],
        "voice_frames": figures["voice_frames"] if is_voice else AN_EXAMPLE,
        "history": [line(side["history"], HISTORY_LUFS) for side in (before, after)],
        "spectrum": [
            line(side[what], SPECTRUM_DBFS)
            for side in (before, after)
            for what in ("spectrum", "floor")
        ],
        "hertz": _hertz_ticks(figures["bands_hz"]),
        "seconds": figures["seconds"],
    }


def _level(value: float) -> float | None:
    """A level to show; None for what is nothing at all."""
    return None if value < LEAST_SHOWN_DB else value


def _is_taken(proposal: dict[str, Any] | None, item: Input) -> bool:
    return proposal is not None and proposal["tone"] == vars(item.tone)


def line(values: Sequence[float], limits: tuple[float, float]) -> str:
    """Points of a line through values, left to right over the whole drawing."""
    if not values:
        return ""
    low, high = limits
    shares = np.clip((np.asarray(values) - low) / (high - low), 0, 1)
    places = np.linspace(0, WIDE, len(values))
    return " ".join(f"{x:.1f},{HIGH * (1 - s):.1f}" for x, s in zip(places, shares, strict=True))


def _hertz_ticks(bands_hz: Sequence[float]) -> list[dict[str, str]]:
    """Places of round frequencies on the logarithmic axis."""
    low, high = np.log(bands_hz[0]), np.log(bands_hz[-1])
    return [
        {"word": word, "at": f"{100 * (np.log(hz) - low) / (high - low):.1f}"}
        for hz, word in ((100, "100 Hz"), (1000, "1 kHz"), (10_000, "10 kHz"))
    ]


def balance_sides(values: RigValues, scene: Scene) -> dict[str, list[list[Any]]]:
    """Voices and backgrounds of a scene with their levels in the mix, as the engine is asked."""
    sides: dict[str, list[list[Any]]] = {"voices": [], "backgrounds": []}
    for sound in scene.sounds:
        item = values.input(sound.input_id)
        if sound.heard and item.on:
            side = "voices" if item.kind in VOICE_KINDS else "backgrounds"
            sides[side].append([item.id, sound.gain_db])
    return sides


def other_voices(values: RigValues, item: Input) -> list[str]:
    """The other voices that a sound is mixed with in the default scene; none where it is not."""
    voices = [name for name, _ in balance_sides(values, values.default_scene)["voices"]]
    return [name for name in voices if name != item.id] if item.id in voices else []


def _shared_words(values: RigValues, shared: list[dict[str, Any]]) -> list[str]:
    """What is said of inputs that have the same voice in them."""
    names = {i.id: i.name for i in values.inputs}
    return [
        f"{names[s['input']]} hears the same voice, {abs(s['lag_ms']):.1f} ms "
        f"{'later' if s['lag_ms'] > 0 else 'earlier'}: both in one mix sound hollow."
        for s in shared
        if s["input"] in names
    ]


def ducking_drawing(ducking: Ducking, voice_frames: Sequence[Sequence[int]]) -> dict[str, Any]:
    """The gain of the background over ten seconds with these words in them."""
    frames = round(DUCKING_SHOWN_S * 100)
    voice = np.zeros(frames, bool)
    for first, last in voice_frames:
        voice[first:last] = True
    gains = DuckingGains(ducking)
    gains.hear(voice)
    levels = [gains.next_db()[1] for _ in range(frames)]
    deepest = -max(ducking.depth_db, 6.0) * 1.25
    return {
        "line": line(levels[::4], (deepest, 1.0)),
        "words": [
            {"at": f"{100 * a / frames:.2f}", "width": f"{100 * max(b - a, 1) / frames:.2f}"}
            for a, b in voice_frames
            if a < frames
        ],
    }


def _cell(track: Stem, item: Input, wrong: dict[str, forms.Form]) -> dict[str, Any]:
    """Whether a sound goes to a track, and at which level."""
    send = track.sends_of(item.id)
    level = _level_form(f"level-{track.id}-{item.id}", send.gain_db, wrong) if send else None
    return {"track": track, "on": send is not None, "level": level}


def _level_form(place: str, gain_db: float, wrong: dict[str, forms.Form]) -> forms.Form:
    made = MixForm(initial=plain({"gain_db": gain_db}), auto_id=f"{place}-%s")
    return wrong.get(place) or made


def tracks_page(
    rig: Rig, scene_id: str = "", wrong: dict[str, forms.Form] | None = None
) -> dict[str, Any]:
    """The table of sounds by tracks, with the mix of a scene."""
    values = rig.values
    scene = next((s for s in values.scenes if s.id == scene_id), values.default_scene)
    wrong = wrong or {}
    heard = {s.input_id: s for s in scene.sounds}
    rows = []
    for item in sounds_of(values):
        cells = [_cell(track, item, wrong) for track in values.stems]
        sound = heard.get(item.id)
        mix = _level_form(f"mix-{item.id}", sound.gain_db if sound else 0.0, wrong)
        nowhere = item.recorded and not any(c["on"] for c in cells)
        rows.append(
            {
                "input": item,
                "cells": cells,
                "mix": mix,
                "in_mix": sound is not None and sound.heard,
                "nowhere": nowhere,
            }
        )
    columns = [
        wrong.get(f"track-{t.id}")
        or StemForm(initial={"name": t.name, "channels": t.channels}, auto_id=f"track-{t.id}-%s")
        for t in values.stems
    ]
    return {
        "rig": rig,
        "page": "sound",
        "rows": rows,
        "columns": list(zip(values.stems, columns, strict=True)),
        "scene": scene,
        "scenes": values.scenes,
        "presets": PRESETS.items(),
        "preset": preset_of(values),
        "new": wrong.get("new") or StemForm(initial={"channels": 2}, auto_id="new-%s"),
        "history": history(rig),
        "here": sound_address(rig.slug, "tracks"),
    }
