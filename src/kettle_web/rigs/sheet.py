"""What the patch sheet shows of a rig."""

from dataclasses import dataclass
from typing import Any

from kettle_core.rig.rig import Input
from kettle_core.rig.rig import Rig as RigValues
from kettle_core.scene.scene import Scene
from kettle_web.frame.selectors import KIND_WORDS


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
        missing = without_track(values, scene)
        if missing:
            found.append(
                (
                    f"“{scene.name}” uses what has no track.",
                    f"{' and '.join(missing)} would be missing from its program. "
                    "Give a track by the dot in the last column.",
                )
            )
    return found


def without_track(values: RigValues, scene: Scene) -> list[str]:
    """Names of what a scene shows or lets be heard and the program of a take has not."""
    used = [x.input_id for x in scene.layers if x.shown]
    used += [x.input_id for x in scene.sounds if x.heard]
    return [i.name for i in values.inputs if i.id in used and i.is_captured and not i.recorded]
