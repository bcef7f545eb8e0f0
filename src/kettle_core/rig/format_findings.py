"""What a format does to pictures that is worth a look, with the change that would mend it."""

from dataclasses import dataclass
from fractions import Fraction

from kettle_core.rig.format import CONSTANT
from kettle_core.rig.rig import Input, Rig
from kettle_core.scene.scene import Layer

# So small print, in px of the display, is still read at its own size.
PRINT_PX = 12


@dataclass(frozen=True)
class FormatFinding:
    """Something worth a look; `fix` is a part of the format's form and its values, {} for none."""

    sentence: str
    fix_words: str = ""
    fix: tuple[tuple[str, str], ...] = ()


def format_findings(rig: Rig) -> list[FormatFinding]:
    """Sizes and rates that do not fit each other, of what the default scene shows."""
    found = []
    scene = rig.seen_in(rig.default_scene)
    layers = [x for x in scene.layers if not rig.input(x.input_id).is_still]
    screens = [x for x in layers if rig.input(x.input_id).is_screen]
    largest = max(screens, key=lambda x: x.box.width * x.box.height, default=None)
    if largest:
        found += _scaled(rig, largest)
    for item in rig.inputs:
        if item.has_track and item.is_picture:
            found += _of_track(rig, item)
    names = {x.input_id for x in layers}
    for item in (i for i in rig.inputs if i.id in names and i.is_captured):
        words = rate_fit(
            rig.format.fps, rig.track_mode(item).fps if item.recorded else item.mode.fps
        )
        if words:
            found.append(FormatFinding(f"{item.name}: {words}"))
    return found


def _scaled(rig: Rig, layer: Layer) -> list[FormatFinding]:
    """The largest screen, where it is not shown at its own size."""
    item = rig.input(layer.input_id)
    scale = layer.box.width / layer.crop.width
    if abs(scale - 1) < 1e-3:
        return []
    frame = rig.format.frame_size
    seen = f"{layer.crop.width} × {layer.crop.height} px"
    sentence = f"{item.name} is {seen} and is seen at {100 * scale:.0f} % of its size: "
    if scale < 1:
        sentence += f"print of {PRINT_PX} px becomes {PRINT_PX * scale:.1f} px high."
    else:
        sentence += "print is softened, nothing is gained."
    fills = (layer.box.width, layer.box.height) == frame
    width, height = layer.crop.width // 2 * 2, layer.crop.height // 2 * 2
    if not fills or (width, height) == frame:
        return [FormatFinding(sentence)]
    fix = (("part", "size"), ("size", f"{width}x{height}"))
    return [FormatFinding(sentence, f"Make the frame {width} × {height} px: 1:1", fix)]


def _of_track(rig: Rig, item: Input) -> list[FormatFinding]:
    found = []
    track, mode = rig.track_of(item), rig.track_mode(item)
    width, height = item.size
    if (mode.width, mode.height) != (width, height):
        share = 100 * mode.width / width
        found.append(
            FormatFinding(
                f"The track of {item.name} is {mode.width} × {mode.height} px, {share:.0f} % of "
                f"its {width} × {height} px: what is finer than that is gone."
            )
        )
    if track.fps > item.mode.fps:
        found.append(
            FormatFinding(
                f"{item.name} gives {float(item.mode.fps):.5g} fps, so its track has no more than "
                "that."
            )
        )
    if track.rate.control == CONSTANT and item.is_screen:
        found.append(
            FormatFinding(
                f"The track of {item.name} has a constant bitrate, so every frame is written, "
                "also where nothing changes."
            )
        )
    return found


def rate_fit(program_fps: Fraction, input_fps: Fraction) -> str:
    """What becomes of an input's frames at a program's rate; "" where they fit one to one.

    >>> rate_fit(Fraction(60), Fraction(30))
    '60 fps from 30 fps: every frame is shown twice.'
    >>> rate_fit(Fraction(25), Fraction(30))
    '25 fps from 30 fps: 5 frames of each second are left out, movement is uneven.'
    >>> rate_fit(Fraction(30), Fraction(30000, 1001))
    ''
    """
    rates = f"{float(program_fps):.5g} fps from {float(input_fps):.5g} fps"
    ratio = program_fps / input_fps if input_fps else Fraction(1)
    if abs(ratio - 1) < Fraction(1, 500):
        return ""
    if ratio > 1:
        if abs(ratio - round(ratio)) < Fraction(1, 500):
            times = {2: "twice"}.get(round(ratio), f"{round(ratio)} times")
            return f"{rates}: every frame is shown {times}."
        more = float(program_fps - input_fps)
        return f"{rates}: {more:.3g} frames of each second are shown twice, movement is uneven."
    less = 1 / ratio
    if abs(less - round(less)) < Fraction(1, 500):
        return f"{rates}: one frame of {round(less)} is shown."
    fewer = float(input_fps - program_fps)
    return f"{rates}: {fewer:.3g} frames of each second are left out, movement is uneven."
