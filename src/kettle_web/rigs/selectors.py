"""What the patch sheet and the order of work show of a rig."""

import shutil
from dataclasses import dataclass
from typing import Any

from django.conf import settings
from django.urls import reverse

from kettle_core.rig.format_findings import format_findings
from kettle_core.rig.rig import Input
from kettle_core.rig.rig import Rig as RigValues
from kettle_core.rig.sound_changes import sounds_of
from kettle_core.scene.scene import Scene
from kettle_web.frame.selectors import KIND_WORDS
from kettle_web.models import Export, Rig, Take, Version


@dataclass(frozen=True)
class Crosspoint:
    """One cell of the patch sheet: "seen", "heard" or "recorded", on or off; None: no place."""

    what: str | None
    on: bool
    scene_id: str
    label: str
    input_id: str

    @property
    def wanted(self) -> str:
        """What its button asks for, in one value: the other way round than it is."""
        return f"{self.input_id} {self.what} {'off' if self.on else 'on'} {self.scene_id}".strip()


@dataclass(frozen=True)
class SheetRow:
    """An input with its cells."""

    input: Input
    line: str
    scenes: tuple[Crosspoint, ...]
    track: Crosspoint
    track_no: str


@dataclass(frozen=True)
class SheetColumn:
    """A scene with its foot."""

    scene: Scene
    voice: str


def patch_sheet(values: RigValues) -> dict[str, Any]:
    """Rows, columns and findings of a rig's patch sheet."""
    numbers = {"P": 0, "S": 0}
    rows = []
    for item in values.inputs:
        letter = "P" if item.is_picture else "S"
        if item.has_track:
            numbers[letter] += 1
        cells = tuple(_crosspoint_in(item, scene) for scene in values.scenes)
        track = Crosspoint(
            None if item.is_still else "recorded",
            item.recorded,
            "",
            f"{item.name}: recorded on its own track",
            item.id,
        )
        number = f"{letter}{numbers[letter]}" if item.has_track else ""
        rows.append(SheetRow(item, input_line(item), cells, track, number))
    columns = [_column(values, scene) for scene in values.scenes]
    return {
        "rows": rows,
        "columns": columns,
        "pictures": numbers["P"],
        "sounds": numbers["S"],
        "findings": patch_sheet_findings(values),
    }


def _column(values: RigValues, scene: Scene) -> SheetColumn:
    voice = values.voice_in(scene)
    return SheetColumn(scene, voice.name if voice else "")


def input_line(item: Input) -> str:
    """What an input is and how it is set up, in a line."""
    parts = [KIND_WORDS[item.kind]]
    if item.is_picture:
        width, height = item.size
        parts.append(f"{width} × {height} px")
        if item.mode.fps:
            parts.append(f"{float(item.mode.fps):.5g} fps")
        if item.looks.crop:
            parts.append("region" if item.is_screen else "cropped")
        if item.looks.turn:
            parts.append(f"turned {item.looks.turn}°")
        if item.looks.mirrored:
            parts.append("mirrored")
        if item.looks.opacity < 100:
            parts.append(f"{item.looks.opacity} % opaque")
    else:
        parts.append(item.mode.in_words())
        if item.tone.gain_db:
            parts.append(f"{item.tone.gain_db:+.1f} dB".replace("-", "−"))
        if item.tone.downmix != "stereo":
            parts.append("to mono")
        if item.tone.cleans:
            parts.append("cleaned")
        if item.tone.delay_ms:
            parts.append(f"{item.tone.delay_ms:+.0f} ms".replace("-", "−"))
    return " · ".join(parts)


def _crosspoint_in(item: Input, scene: Scene) -> Crosspoint:
    if item.is_picture:
        on = any(x.shown for x in scene.layers if x.input_id == item.id)
        return Crosspoint("seen", on, scene.id, f"{item.name}: seen in {scene.name}", item.id)
    on = any(x.heard for x in scene.sounds if x.input_id == item.id)
    return Crosspoint("heard", on, scene.id, f"{item.name}: heard in {scene.name}", item.id)


def patch_sheet_findings(values: RigValues) -> list[tuple[str, str]]:
    """Short title and sentence of what is worth a look."""
    found = []
    for scene in values.scenes:
        if values.voice_in(scene) is None:
            found.append(
                (
                    f"“{scene.name}” has no voice.",
                    "No microphone is heard in it, so your voice would be missing from the "
                    "program. Put one back by its bar in the sheet.",
                )
            )
        used = [x.input_id for x in scene.layers if x.shown]
        used += [x.input_id for x in scene.sounds if x.heard]
        missing = [
            i.name for i in values.inputs if i.id in used and i.is_captured and not i.recorded
        ]
        if missing:
            found.append(
                (
                    f"“{scene.name}” uses what has no track.",
                    f"{' and '.join(missing)} would be missing from its program. "
                    "Give a track by the dot in the last column.",
                )
            )
    return found


def path_steps(rig: Rig) -> list[dict[str, str]]:
    """The order of work with each step's state: "ready", "look" or "new"."""
    if rig.of_take:
        return _steps_of_take(rig, rig.of_take)
    ready = not patch_sheet_findings(rig.values)
    inputs = ("ready", "ready") if ready else ("look", "look at this")
    record = ("ready", "ready") if ready else ("look", "something would be missing")
    silent = [s.name for s in rig.values.scenes if rig.values.voice_in(s) is None]
    scenes = ("look", f"no voice in {' and '.join(silent)}") if silent else ("ready", "ready")
    takes = ("ready", "recorded") if rig.takes.exists() else ("new", "nothing recorded yet")
    steps = (
        ("Inputs", "patch-sheet", inputs),
        ("Scenes", "scenes", scenes),
        ("Sound", "sound", _sound_step(rig.values)),
        ("Format", "format", _format_step(rig.values)),
        ("Record", "record", record),
        ("Takes", "takes", takes),
    )
    found = [
        {"name": name, "address": reverse(url, args=[rig.slug]), "state": state, "words": words}
        for name, url, (state, words) in steps
    ]
    return [*found, *_steps_after(rig)]


def _steps_after(rig: Rig) -> list[dict[str, str]]:
    """What is made of takes: of the tutorial that is at the rig, or that of its newest take."""
    last = None if rig.tutorial else rig.takes.select_related("tutorial").first()
    tutorial = rig.tutorial or (last.tutorial if last else None)
    if tutorial is None:
        return []
    cut = Version.objects.filter(tutorial=tutorial, revision__gt=1).exists()
    words = ("ready", "cut") if cut else ("new", "not cut yet")
    made = Export.objects.filter(version__tutorial=tutorial).exclude(result={}).exists()
    done = ("ready", "made") if made else ("new", "nothing made yet")
    return [
        {"name": name, "address": reverse(url, args=[tutorial.pk]), "state": state, "words": words}
        for name, url, (state, words) in (
            ("Assembly", "tutorial-assembly", words),
            ("Export", "tutorial-export", done),
        )
    ]


def _steps_of_take(rig: Rig, take: Take) -> list[dict[str, str]]:
    """What of a take's own rig can be changed after it was recorded, and the take itself."""
    ready = {"state": "ready", "words": "changed for this take only"}
    pages = (("Scenes", "scenes"), ("Sound", "sound"))
    steps = [{"name": n, "address": reverse(url, args=[rig.slug]), **ready} for n, url in pages]
    return [*steps, {"name": "Take", "address": take.get_absolute_url(), **ready}]


def _sound_step(values: RigValues) -> tuple[str, str]:
    """Whether every recorded sound goes somewhere, and a voice was looked after."""
    sent = {s.input_id for t in values.stems for s in t.sends}
    sounds = [i for i in sounds_of(values) if i.recorded]
    nowhere = [i.name for i in sounds if i.id not in sent]
    if nowhere:
        return "look", f"{' and '.join(nowhere)} on no stem"
    return ("ready", "ready") if sounds else ("new", "no sound yet")


def _format_step(values: RigValues) -> tuple[str, str]:
    """Whether sizes and rates fit each other."""
    found = format_findings(values)
    return ("look", found[0].sentence) if found else ("ready", "ready")


def rig_costs(rig: Rig) -> dict[str, Any]:
    """What recording costs, measured on this rig's last take, and the room left."""
    free_bytes = shutil.disk_usage(settings.DATA).free
    last = rig.takes.exclude(duration_s=None).filter(duration_s__gte=1, size_bytes__gt=0).first()
    costs: dict[str, Any] = {"free_bytes": free_bytes}
    if last and last.duration_s:
        per_minute = last.size_bytes / last.duration_s * 60
        costs |= {"per_minute_bytes": per_minute, "room_minutes": free_bytes / per_minute}
    return costs
